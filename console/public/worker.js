// Keeps what was last seen, so that it can be read without a connection. It answers no question by itself while the service does, and
// keeps nothing of people, secrets, papers or the audit. Signing out forgets all.
const shell = "hylostat-shell-1";
const seen = "hylostat-seen-1";
const mostSeen = 300;
const scope = new URL(self.registration.scope).pathname;
const kept =
  /^(service|session|bays|drives(\/[^/]+(\/(verdict|signals|history|siblings|readings(\/[^/]+)?|sweeps|comparison|volumes|watch))?)?|alerts|accepted|lots(\/\d+)?|runs(\/\d+)?|watch\/(plans|drives)|plan|policy)$/;

self.addEventListener("install", () => self.skipWaiting());
self.addEventListener("activate", (e) => e.waitUntil(self.clients.claim()));

async function keep(name, request, answer) {
  const cache = await caches.open(name);
  await cache.put(request, answer);
  if (name !== seen) return;
  const all = await cache.keys();
  for (const old of all.slice(0, Math.max(0, all.length - mostSeen))) await cache.delete(old);
}

/** What the service says, else what it said last. */
async function asked(event, name, key) {
  try {
    const answer = await fetch(event.request);
    if (answer.ok) event.waitUntil(keep(name, key, answer.clone()));
    return answer;
  } catch (wrong) {
    const before = await caches.match(key, { cacheName: name });
    if (before) return before;
    throw wrong;
  }
}

self.addEventListener("fetch", (event) => {
  const { request } = event;
  const url = new URL(request.url);
  if (url.origin !== self.location.origin || !url.pathname.startsWith(scope)) return;
  const path = url.pathname.slice(scope.length);
  if (path === "api/v1/session" && request.method !== "GET") {
    event.waitUntil(caches.delete(seen));
    return;
  }
  if (request.method !== "GET") return;
  if (request.mode === "navigate") {
    event.respondWith(asked(event, shell, scope)); // every page begins alike
    return;
  }
  if (path.startsWith("assets/")) {
    event.respondWith(caches.match(request, { cacheName: shell }).then((have) => have ?? asked(event, shell, request)));
    return;
  }
  if (path.startsWith("api/v1/") && kept.test(path.slice("api/v1/".length))) event.respondWith(asked(event, seen, request));
});

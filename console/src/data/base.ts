/** Where the console is under its host, without a slash at the end: the service may stand below a path of a proxy. */
export const base = new URL(document.baseURI).pathname.replace(/\/$/, "");

/** An address of the API. */
export const apiPath = (path: string) => `${base}/api/v1${path}`;

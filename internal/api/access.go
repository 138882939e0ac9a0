package api

import (
	"cmp"
	"context"
	"encoding/json"
	"net/http"
	"strings"

	"hylostat.example/internal/access"
	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
)

// cookie is the session's. With TLS it carries the prefix that keeps it from other hosts and paths.
const (
	cookie       = "hylostat-session"
	secureCookie = "__Host-" + cookie
)

// roleOf is who may do an operation, by its x-role in the contract: "anyone" needs no name; without one, whoever works here may
// read.
func roleOf(extensions map[string]any, method string) string {
	if role, ok := extensions["x-role"].(string); ok {
		return role
	}
	if method == http.MethodGet {
		return string(access.Desk)
	}
	return string(access.Lead) // the contract forgot to say
}

type actorKey struct{}

// actor is who does what a request asks: whoever signed in, or, in an open shop, whoever it says. by is what it says.
func actor(ctx context.Context, by string) access.Actor {
	if who, ok := ctx.Value(actorKey{}).(access.Actor); ok {
		return who
	}
	return access.InOpenShop(by)
}

// whoAsks is who signed in; not ok in an open shop.
func whoAsks(ctx context.Context) (access.Actor, bool) {
	who, ok := ctx.Value(actorKey{}).(access.Actor)
	return who, ok
}

// secretOf is what a request's cookie carries.
func secretOf(r *http.Request) string {
	for _, name := range []string{secureCookie, cookie} {
		if c, err := r.Cookie(name); err == nil {
			return c.Value
		}
	}
	return ""
}

// identify finds who asks, by token or cookie; the zero Actor for nobody. bySession is one of those of Access.
func identify(
	a *access.Access, r *http.Request, bySession func(context.Context, string) (*access.Person, error),
) (access.Actor, error) {
	is := func(p *access.Person, via access.Via, err error) (access.Actor, error) {
		if err != nil || p == nil {
			return access.Actor{}, err
		}
		return access.Actor{Name: p.Name, Role: p.Role, Via: via}, nil
	}
	if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		p, err := a.ByToken(r.Context(), strings.TrimSpace(token))
		return is(p, access.ByToken, err)
	}
	if secret := secretOf(r); secret != "" {
		p, err := bySession(r.Context(), secret)
		return is(p, access.BySession, err)
	}
	return access.Actor{}, nil
}

// admit tells who asks, and whether the shop is open, or refuses an operation that its sender may not do.
func admit(a *access.Access, r *http.Request, role string) (who access.Actor, open bool, err error) {
	return admitBy(a, r, role, a.BySession)
}

// still reports whether whoever was let in to read may read on.
func (h *handlers) still(r *http.Request) bool {
	_, _, err := admitBy(h.access, r, string(access.Desk), h.access.StillBySession)
	return err == nil
}

func admitBy(
	a *access.Access, r *http.Request, role string, bySession func(context.Context, string) (*access.Person, error),
) (who access.Actor, open bool, err error) {
	if who, err = identify(a, r, bySession); err != nil {
		return who, false, err
	}
	if open, err = a.Open(r.Context()); err != nil {
		return who, false, err
	}
	switch {
	case open || role == "anyone":
	case who.Name == "":
		return who, open, &access.Refused{
			What:   "nobody is signed in",
			Advice: "Sign in at the console; on the command line, put your token into HYLOSTAT_TOKEN or a file named with --token-file.",
			SignIn: true,
		}
	case !who.Role.Covers(access.Role(role)):
		return who, open, &access.Refused{
			What:   who.Name + " is " + string(who.Role) + "; this needs a " + role,
			Advice: "Ask somebody with that role.",
		}
	}
	return who, open, nil
}

func workerOf(p access.Person) contract.Worker {
	return contract.Worker{Name: p.Name, Role: contract.Role(p.Role), Password: p.Password != "", Token: len(p.Token) > 0}
}

func (h *handlers) people(ctx context.Context) ([]contract.Worker, error) {
	all, err := h.access.People(ctx)
	return each(all, workerOf), err
}

func (h *handlers) ListPeople(ctx context.Context, _ server.ListPeopleRequestObject) (server.ListPeopleResponseObject, error) {
	all, err := h.people(ctx)
	return server.ListPeople200JSONResponse(all), err
}

func (h *handlers) AddPerson(ctx context.Context, r server.AddPersonRequestObject) (server.AddPersonResponseObject, error) {
	by := actor(ctx, cmp.Or(value(r.Body.By), r.Body.Name))
	p, token, err := h.access.Enter(
		ctx, by,
		access.Change{Name: r.Body.Name, Role: access.Role(r.Body.Role), Password: value(r.Body.Password), Token: value(r.Body.Token)},
	)
	out := workerOf(p)
	out.NewToken = text(token)
	return server.AddPerson200JSONResponse(out), err
}

func (h *handlers) RemovePerson(ctx context.Context, r server.RemovePersonRequestObject) (server.RemovePersonResponseObject, error) {
	if err := h.access.Remove(ctx, actor(ctx, cmp.Or(value(r.Params.By), r.Person)), r.Person); err != nil {
		return nil, err
	}
	all, err := h.people(ctx)
	return server.RemovePerson200JSONResponse(all), err
}

func (h *handlers) session(ctx context.Context, who access.Actor) (contract.Session, error) {
	open, err := h.access.Open(ctx)
	out := contract.Session{Open: open}
	if who.Name != "" {
		out.Name, out.Role = &who.Name, new(contract.Role(who.Role))
	}
	return out, err
}

func (h *handlers) GetSession(ctx context.Context, _ server.GetSessionRequestObject) (server.GetSessionResponseObject, error) {
	who, _ := whoAsks(ctx)
	s, err := h.session(ctx, who)
	return server.GetSession200JSONResponse(s), err
}

// sessionAnswer is a session together with its cookie.
type sessionAnswer struct {
	session contract.Session
	cookie  http.Cookie
}

func (a sessionAnswer) write(w http.ResponseWriter) error {
	http.SetCookie(w, &a.cookie)
	w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(w).Encode(a.session)
}

// VisitSignInResponse implements the generated interface.
func (a sessionAnswer) VisitSignInResponse(w http.ResponseWriter) error { return a.write(w) }

// VisitSignOutResponse implements the generated interface.
func (a sessionAnswer) VisitSignOutResponse(w http.ResponseWriter) error { return a.write(w) }

type secureKey struct{}

// newCookie carries a secret; an empty one forgets it.
func newCookie(ctx context.Context, secret string) http.Cookie {
	// Without TLS, which is on loopback only, a secure cookie would not come back.
	c := http.Cookie{ //nolint:gosec // Secure is set below where there is TLS
		Name:     cookie,
		Value:    secret,
		Path:     "/",
		HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
		MaxAge:   int(access.Idle.Seconds()),
	}
	if ctx.Value(secureKey{}) != nil {
		c.Name, c.Secure = secureCookie, true
	}
	if secret == "" {
		c.MaxAge = -1
	}
	return c
}

func (h *handlers) SignIn(ctx context.Context, r server.SignInRequestObject) (server.SignInResponseObject, error) {
	p, secret, err := h.access.SignIn(ctx, r.Body.Name, r.Body.Password)
	if err != nil {
		return nil, err
	}
	s, err := h.session(ctx, access.Actor{Name: p.Name, Role: p.Role, Via: access.BySession})
	return sessionAnswer{s, newCookie(ctx, secret)}, err
}

type secretKey struct{}

func (h *handlers) SignOut(ctx context.Context, _ server.SignOutRequestObject) (server.SignOutResponseObject, error) {
	if secret, _ := ctx.Value(secretKey{}).(string); secret != "" {
		if err := h.access.SignOut(ctx, secret); err != nil {
			return nil, err
		}
	}
	s, err := h.session(ctx, access.Actor{})
	return sessionAnswer{s, newCookie(ctx, "")}, err
}

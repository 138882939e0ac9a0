package api

import (
	"cmp"
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/access"
	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/handover"
)

// demand is what an operation demands of who asks, by the contract.
type demand struct {
	role  string // "anyone" needs no name
	reads bool   // it changes nothing
	prove bool   // who asks has said of late who they are
	unset bool   // who lacks a second factor that the shop demands may do it
	name  string
}

// demandOf reads what the contract says of an operation. Without an x-role, whoever works here may read.
func demandOf(extensions map[string]any, method, name string) demand {
	name, _, _ = strings.Cut(name, ". ")
	d := demand{role: string(access.Lead), reads: method == http.MethodGet, name: name} // the contract forgot to say
	if d.reads {
		d.role = string(access.Desk)
	}
	if role, ok := extensions["x-role"].(string); ok {
		d.role = role
	}
	d.prove, _ = extensions["x-prove"].(bool)
	d.unset, _ = extensions["x-unset"].(bool)
	return d
}

type callerKey struct{}

// callerOf is who asks; the zero Caller for nobody.
func callerOf(ctx context.Context) access.Caller {
	who, _ := ctx.Value(callerKey{}).(access.Caller)
	return who
}

// actor is who does what a request asks: whoever signed in, or, in an open shop, whoever it says. by is what it says.
func actor(ctx context.Context, by string) access.Actor {
	if who := callerOf(ctx); who.Name != "" {
		return who.Actor
	}
	return access.InOpenShop(by)
}

// whoAsks is who signed in; not ok in an open shop.
func whoAsks(ctx context.Context) (access.Actor, bool) {
	who := callerOf(ctx)
	return who.Actor, who.Name != ""
}

// identify finds who asks, by token or cookie; the zero Caller for nobody. bySession is one of those of Access.
func identify(
	a *access.Access, r *http.Request, bySession func(context.Context, string) (*access.Caller, error),
) (who access.Caller, err error) {
	var found *access.Caller
	if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		found, err = a.ByToken(r.Context(), strings.TrimSpace(token))
	} else if secret := askedOf(r.Context()).secret; secret != "" {
		found, err = bySession(r.Context(), secret)
	}
	if err != nil || found == nil {
		return who, err
	}
	return *found, nil
}

// admit tells who asks, and whether the shop is open, or refuses an operation that its sender may not do.
func admit(a *access.Access, r *http.Request, d demand) (who access.Caller, open bool, err error) {
	who, open, err = admitBy(a, r, d, a.BySession)
	if refused, ok := err.(*access.Refused); ok && refused.Help == "" { //nolint:errorlint // it is made below
		a.Refusal(r.Context(), who.Actor, d.name, askedOf(r.Context()).from.Address)
	}
	return who, open, err
}

// still reports whether whoever was let in to read may read on.
func (h *handlers) still(r *http.Request) bool {
	_, _, err := admitBy(h.access, r, demand{role: string(access.Desk), reads: true}, h.access.StillBySession)
	return err == nil
}

func admitBy(
	a *access.Access, r *http.Request, d demand, bySession func(context.Context, string) (*access.Caller, error),
) (who access.Caller, open bool, err error) {
	if who, err = identify(a, r, bySession); err != nil {
		return who, false, err
	}
	if open, err = a.Open(r.Context()); err != nil {
		return who, false, err
	}
	switch {
	case open || d.role == "anyone":
	case who.Name == "":
		return who, open, &access.Refused{
			What:   "nobody is signed in",
			Advice: "Sign in at the console; on the command line, put your token into HYLOSTAT_TOKEN or a file named with --token-file.",
			Help:   access.ToSignIn,
		}
	case who.Unset && !d.unset:
		return who, open, &access.Refused{
			What: "this shop demands a second factor, and you have none", Advice: "Set one up at the console.", Help: access.ToSetFactor,
		}
	case who.Reads && !d.reads:
		return who, open, &access.Refused{What: "this token changes nothing", Advice: "Use one of another scope."}
	case !who.Role.Covers(access.Role(d.role)):
		return who, open, &access.Refused{
			What:   who.Name + " is " + string(who.Role) + "; this needs a " + d.role,
			Advice: "Ask somebody with that role.",
		}
	case d.prove:
		return who, open, a.Prove(who)
	}
	return who, open, nil
}

func workerOf(p access.Person, r access.Roster) contract.Worker {
	return contract.Worker{
		Name: p.Name, Role: contract.Role(p.Role), Password: p.Password != "", Factor: p.Factor.Secret != "",
		Token: slices.ContainsFunc(r.Tokens, func(t access.Token) bool { return t.Person == p.Name }),
	}
}

func (h *handlers) people(ctx context.Context) ([]contract.Worker, error) {
	r, err := h.access.Roster(ctx)
	return each(r.People, func(p access.Person) contract.Worker { return workerOf(p, r) }), err
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
	if err != nil {
		return nil, err
	}
	all, err := h.access.Roster(ctx)
	out := workerOf(p, all)
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

func (h *handlers) session(ctx context.Context, who access.Caller) (contract.Session, error) {
	r, err := h.access.Roster(ctx)
	if err != nil {
		return contract.Session{}, err
	}
	open, err := h.access.Open(ctx)
	out := contract.Session{Open: open}
	if who.Name != "" {
		p, _ := r.Find(who.Name)
		out.Name, out.Role = &who.Name, new(contract.Role(who.Role))
		out.Factor, out.Unset = new(p.Factor.Secret != ""), &who.Unset
	}
	return out, err
}

func (h *handlers) GetSession(ctx context.Context, _ server.GetSessionRequestObject) (server.GetSessionResponseObject, error) {
	s, err := h.session(ctx, callerOf(ctx))
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

func (h *handlers) SignIn(ctx context.Context, r server.SignInRequestObject) (server.SignInResponseObject, error) {
	proof := access.Proof{Password: r.Body.Password, Code: value(r.Body.Code)}
	who, secret, err := h.access.SignIn(ctx, r.Body.Name, askedOf(ctx).from, proof)
	if err != nil {
		return nil, err
	}
	s, err := h.session(ctx, who)
	return sessionAnswer{s, newCookie(ctx, secret)}, err
}

func (h *handlers) SignOut(ctx context.Context, _ server.SignOutRequestObject) (server.SignOutResponseObject, error) {
	if secret := askedOf(ctx).secret; secret != "" {
		if err := h.access.SignOut(ctx, secret); err != nil {
			return nil, err
		}
	}
	s, err := h.session(ctx, access.Caller{})
	return sessionAnswer{s, newCookie(ctx, "")}, err
}

// noSession refuses what only somebody who signed in at the console can do.
var noSession = &access.Refused{What: "nobody is signed in by this request", Advice: "Sign in at the console.", Help: access.ToSignIn}

func (h *handlers) ProveAgain(ctx context.Context, r server.ProveAgainRequestObject) (server.ProveAgainResponseObject, error) {
	if callerOf(ctx).Session == "" {
		return nil, noSession
	}
	proof := access.Proof{Password: r.Body.Password, Code: value(r.Body.Code)}
	who, err := h.access.ProveAgain(ctx, askedOf(ctx).secret, askedOf(ctx).from, proof)
	if err != nil {
		return nil, err
	}
	s, err := h.session(ctx, who)
	return server.ProveAgain200JSONResponse(s), err
}

func (h *handlers) SetPassword(ctx context.Context, r server.SetPasswordRequestObject) (server.SetPasswordResponseObject, error) {
	who := callerOf(ctx)
	if who.Name == "" {
		return nil, noSession
	}
	proof := access.Proof{Password: r.Body.Before, Code: value(r.Body.Code)}
	if err := h.access.SetPassword(ctx, who.Actor, askedOf(ctx).from, proof, r.Body.Password, askedOf(ctx).secret); err != nil {
		return nil, err
	}
	s, err := h.session(ctx, who)
	return server.SetPassword200JSONResponse(s), err
}

func (h *handlers) OfferFactor(ctx context.Context, _ server.OfferFactorRequestObject) (server.OfferFactorResponseObject, error) {
	who := callerOf(ctx)
	if who.Session == "" {
		return nil, noSession
	}
	secret, address, err := h.access.OfferFactor(who.Actor, h.shop.Name)
	if err != nil {
		return nil, err
	}
	picture, err := handover.CodePicture(address)
	return server.OfferFactor200JSONResponse{Secret: secret, Address: address, Picture: picture}, err
}

func (h *handlers) SetFactor(ctx context.Context, r server.SetFactorRequestObject) (server.SetFactorResponseObject, error) {
	who := callerOf(ctx)
	if who.Session == "" {
		return nil, noSession
	}
	codes, err := h.access.SetFactor(ctx, who.Actor, r.Body.Secret, r.Body.Code)
	return server.SetFactor200JSONResponse{Codes: codes}, err
}

func (h *handlers) RemoveFactor(ctx context.Context, r server.RemoveFactorRequestObject) (server.RemoveFactorResponseObject, error) {
	if callerOf(ctx).Session == "" {
		return nil, noSession
	}
	if err := h.access.RemoveFactor(ctx, callerOf(ctx).Actor, r.Person); err != nil {
		return nil, err
	}
	all, err := h.people(ctx)
	return server.RemoveFactor200JSONResponse(all), err
}

func (h *handlers) sessions(ctx context.Context) ([]contract.SignedIn, error) {
	who := callerOf(ctx)
	all, err := h.access.Sessions(ctx, who.Actor)
	return each(all, func(s access.Session) contract.SignedIn {
		return contract.SignedIn{
			Id: s.ID, Person: s.Person, Address: s.From.Address, Agent: s.From.Agent, Begun: s.Begun, Seen: s.Seen,
			Own: s.ID == who.Session,
		}
	}), err
}

func (h *handlers) ListSessions(ctx context.Context, _ server.ListSessionsRequestObject) (server.ListSessionsResponseObject, error) {
	all, err := h.sessions(ctx)
	return server.ListSessions200JSONResponse(all), err
}

func (h *handlers) EndSession(ctx context.Context, r server.EndSessionRequestObject) (server.EndSessionResponseObject, error) {
	if err := h.access.EndSession(ctx, callerOf(ctx).Actor, r.Session); err != nil {
		return nil, err
	}
	all, err := h.sessions(ctx)
	return server.EndSession200JSONResponse(all), err
}

func tokenOf(t access.Token) contract.Token {
	out := contract.Token{Id: t.ID, Person: t.Person, Name: t.Name, Scope: contract.TokenScope(t.Scope), By: t.By, Made: t.Made}
	if !t.Expires.IsZero() {
		out.Expires = &t.Expires
	}
	if !t.Seen.IsZero() {
		out.Seen = &t.Seen
	}
	return out
}

func (h *handlers) tokens(ctx context.Context) ([]contract.Token, error) {
	who := callerOf(ctx)
	r, err := h.access.Roster(ctx)
	all := []contract.Token{}
	for _, t := range r.Tokens {
		if t.Person == who.Name || who.May(access.Lead) {
			all = append(all, tokenOf(t))
		}
	}
	return all, err
}

func (h *handlers) ListTokens(ctx context.Context, _ server.ListTokensRequestObject) (server.ListTokensResponseObject, error) {
	all, err := h.tokens(ctx)
	return server.ListTokens200JSONResponse(all), err
}

func (h *handlers) AddToken(ctx context.Context, r server.AddTokenRequestObject) (server.AddTokenResponseObject, error) {
	by := actor(ctx, "")
	lasts := time.Duration(value(r.Body.Days)) * 24 * time.Hour
	t, secret, err := h.access.AddToken(ctx, by, cmp.Or(value(r.Body.Person), by.Name), r.Body.Name, string(r.Body.Scope), lasts)
	out := tokenOf(t)
	out.Secret = text(secret)
	return server.AddToken200JSONResponse(out), err
}

func (h *handlers) EndToken(ctx context.Context, r server.EndTokenRequestObject) (server.EndTokenResponseObject, error) {
	if err := h.access.EndToken(ctx, callerOf(ctx).Actor, r.Token); err != nil {
		return nil, err
	}
	all, err := h.tokens(ctx)
	return server.EndToken200JSONResponse(all), err
}

func demandsOf(r access.Demands) contract.Demands {
	return contract.Demands{SecondFactor: r.SecondFactor, SecondPerson: r.SecondPerson}
}

func (h *handlers) GetDemands(ctx context.Context, _ server.GetDemandsRequestObject) (server.GetDemandsResponseObject, error) {
	r, err := h.access.Roster(ctx)
	return server.GetDemands200JSONResponse(demandsOf(r.Demands)), err
}

func (h *handlers) SetDemands(ctx context.Context, r server.SetDemandsRequestObject) (server.SetDemandsResponseObject, error) {
	to := access.Demands{SecondFactor: r.Body.SecondFactor, SecondPerson: r.Body.SecondPerson}
	err := h.access.SetDemands(ctx, actor(ctx, value(r.Body.By)), to)
	return server.SetDemands200JSONResponse(demandsOf(to)), err
}

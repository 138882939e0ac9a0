package access

// Via is how somebody came in.
type Via string

// The ways in.
const (
	BySession Via = "session"        // signed in at the console
	ByToken   Via = "token"          // of the command line
	OpenShop  Via = "open shop"      // nobody is entered: under the name they gave
	Standing  Via = "standing order" // a plan or an open lot of theirs
	Itself    Via = "itself"         // the service, on nobody's order

	OnTheMachine Via = "on the machine" // a command that opens the records, as whoever may read them
)

// Actor is who does something: an argument of every use case that changes something.
type Actor struct {
	Name string
	Role Role // empty: none is known, as in an open shop
	Via  Via
}

// May reports whether they may do what needs a role; in an open shop everybody may.
func (a Actor) May(need Role) bool { return a.Via == OpenShop || a.Role.Covers(need) }

// Nobody's name is what stands in records when an open shop was not told one.
const nobodysName = "somebody"

// InOpenShop is whoever reached a shop in which nobody is entered, under the name they gave.
func InOpenShop(name string) Actor {
	if name == "" {
		name = nobodysName
	}
	return Actor{Name: name, Via: OpenShop}
}

// Service is the service acting on nobody's order.
var Service = Actor{Name: "Hylostat", Via: Itself}

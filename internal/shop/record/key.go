package record

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// Keys lists the keys of others that somebody here says whose they are.
func (s *Keeper) Keys(ctx context.Context) ([]shop.KnownKey, error) { return s.store.KnownKeys(ctx) }

// KeyName is the name of the key by which the shop signs.
func (s *Keeper) KeyName() string { return s.books.Key.Name() }

// NameKey notes whose a key is; called nothing, it is known no more.
func (s *Keeper) NameKey(ctx context.Context, by shop.Actor, name, called string) error {
	if err := shop.Tidy(&called); err != nil {
		return err
	}
	if name = strings.ToLower(strings.TrimSpace(name)); !shop.IsKey(name) {
		return &shop.Invalid{What: fmt.Sprintf("%q is no name of a key", name), Advice: "Take it from whoever signs: five groups of four."}
	}
	k := shop.KnownKey{Name: name, Called: called, By: by.Name, At: s.books.Clock.Now()}
	return shop.Act(ctx, s.books, s.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		before, err := tx.KnownKeys(ctx)
		if err != nil {
			return nil, nil, err
		}
		d := shop.Deed{Kind: shop.KeyNamed, Said: wording.Say(wording.KeyNamed, wording.Values{"key": name, "by": by.Name})}
		was := ""
		if i := slices.IndexFunc(before, func(k shop.KnownKey) bool { return k.Name == name }); i >= 0 {
			was = before[i].Called
		}
		d.Edited("called", was, called)
		return []shop.Deed{d}, nil, tx.SaveKey(ctx, k)
	})
}

// originOf is where a reading of a file comes from: the key that signed the file, through whoever signed the one that it came in before. A
// file of the shop's own says what the shop said of it.
func (s *Keeper) originOf(signedBy, origin string) string {
	if signedBy == s.books.Key.Name() {
		return origin
	}
	if signedBy == "" {
		signedBy = shop.Unsigned
	}
	if origin != "" {
		return origin + ", through " + signedBy
	}
	return signedBy
}

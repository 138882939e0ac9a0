package access

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"hylostat.example/internal/core/wording"
)

// Factor is a person's second factor: a secret from which a device makes codes by the time (RFC 6238), and codes for when it is lost, each
// good once.
type Factor struct {
	Secret   string   // base32; empty: none
	Used     int64    // the step of the last code that was used: none is good twice
	Recovery []string // SHA-256, hexadecimal
}

// recoveryCodes is how many codes there are for when the device is lost.
const recoveryCodes = 10

// step is how long a code is good, and how many before and after are taken, since clocks differ (RFC 6238, 5.2).
const (
	step = 30 * time.Second
	skew = 1
)

// OfferFactor makes a secret for a person's device. Nothing is kept until SetFactor proves that the device has it. The address is what a
// device reads from a picture.
func (a *Access) OfferFactor(by Actor, shop string) (secret, address string, err error) {
	key, err := totp.Generate(totp.GenerateOpts{
		Issuer: strings.ReplaceAll(shop, ":", " "), AccountName: strings.ReplaceAll(by.Name, ":", " "),
	})
	if err != nil {
		return "", "", fmt.Errorf("making a second factor: %w", err)
	}
	return key.Secret(), key.URL(), nil
}

// SetFactor gives somebody a second factor: a code proves that their device has the secret. It gives the codes for when it is lost.
func (a *Access) SetFactor(ctx context.Context, by Actor, secret, code string) (recovery []string, err error) {
	at, ok := stepOf(secret, code, a.now())
	if !ok {
		return nil, &Refused{
			What: "that code is not of this secret, or not of now", Advice: "Look at the device's clock, and give the next code.",
		}
	}
	f := Factor{Secret: secret, Used: at}
	for range recoveryCodes {
		one := strings.ToLower(rand.Text()[:12])
		recovery = append(recovery, one[:4]+"-"+one[4:8]+"-"+one[8:])
		f.Recovery = append(f.Recovery, hex.EncodeToString(digest(one)))
	}
	return recovery, a.saveFactor(ctx, by, by.Name, f, wording.FactorSet)
}

// RemoveFactor takes a second factor away: one's own, or, for a lead, that of somebody who lost device and codes.
func (a *Access) RemoveFactor(ctx context.Context, by Actor, name string) error {
	if name != by.Name && !by.May(Lead) {
		return &Refused{What: "the second factor is " + name + "'s", Advice: "Ask a lead."}
	}
	return a.saveFactor(ctx, by, name, Factor{}, wording.FactorRemoved)
}

func (a *Access) saveFactor(ctx context.Context, by Actor, name string, f Factor, code wording.Code) error {
	return a.edit(ctx, by, func(r Roster) (Edit, error) {
		p, known := r.Find(name)
		if !known {
			return Edit{}, &Unknown{Name: name}
		}
		p.Factor = f
		return Edit{Save: &p, Note: Note{Said: wording.Say(code, wording.Values{"name": name, "by": by.Name})}}, nil
	})
}

// useCode uses a code up: one of the device, later than the last, or one for when it is lost.
func (a *Access) useCode(ctx context.Context, p Person, code string) (bool, error) {
	code = strings.ToLower(strings.Map(func(r rune) rune {
		if r == '-' || r == ' ' {
			return -1
		}
		return r
	}, code))
	at, ofDevice := stepOf(p.Factor.Secret, code, a.now())
	hash := hex.EncodeToString(digest(code))
	used := false
	err := a.edit(ctx, Actor{Name: p.Name, Role: p.Role, Via: BySession}, func(r Roster) (Edit, error) {
		now, known := r.Find(p.Name)
		i := slices.Index(now.Factor.Recovery, hash)
		switch {
		case !known:
			return Edit{}, errUnused
		case ofDevice && now.Factor.Secret == p.Factor.Secret && at > now.Factor.Used:
			used, now.Factor.Used = true, at
			return Edit{Save: &now}, nil
		case i >= 0:
			used = true
			now.Factor.Recovery = slices.Delete(slices.Clone(now.Factor.Recovery), i, i+1)
			return Edit{Save: &now, Note: Note{
				Said: wording.Say(wording.RecoveryUsed, wording.Values{"name": p.Name, "left": len(now.Factor.Recovery)}),
			}}, nil
		}
		return Edit{}, errUnused
	})
	if !used {
		return false, nil
	}
	return err == nil, err
}

var errUnused = &Refused{What: "the code is not good", Advice: "Give the next one.", Help: ToGiveCode}

// stepOf tells of which step a code is, among those that are taken now.
func stepOf(secret, code string, now time.Time) (int64, bool) {
	if len(code) != int(otp.DigitsSix) {
		return 0, false
	}
	for n := -skew; n <= skew; n++ {
		at := now.Add(time.Duration(n) * step)
		want, err := totp.GenerateCode(secret, at)
		if err == nil && same([]byte(want), []byte(code)) {
			return at.Unix() / int64(step.Seconds()), true
		}
	}
	return 0, false
}

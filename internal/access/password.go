package access

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"
	"golang.org/x/crypto/argon2"
)

// LeastPassword is how many characters a new password has at least.
const LeastPassword = 12

// leastScore is what a password scores at least by zxcvbn (Wheeler, 2016), which knows the common ones, names, keyboard walks and
// dates: 3 of
// 4, some 10^8 guesses.
const leastScore = 3

// mostScored is how much of a password is scored: what is longer is no easier to guess.
const mostScored = 64

// acceptable tells why a new password of a person is none.
func acceptable(name, password string) error {
	if n := utf8.RuneCountInString(password); n < LeastPassword {
		return &Refused{
			What: fmt.Sprintf("a password of %d characters is too short", n), Advice: fmt.Sprintf("Take %d or more.", LeastPassword),
		}
	}
	scored := password
	if len(scored) > mostScored {
		scored = strings.ToValidUTF8(scored[:mostScored], "")
	}
	known := append(strings.Fields(name), name, "hylostat")
	if zxcvbn.PasswordStrength(scored, known).Score < leastScore {
		return &Refused{
			What: "that password is among the first ones that are tried", Advice: "Take a few words that do not belong together.",
		}
	}
	return nil
}

// kept is what is kept of a password: cost, salt and hash by argon2id (RFC 9106), as PHC strings have it.
const kept = "$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s"

// Cost of trying a password: 46 MiB, one pass, one lane, some 50 ms; that of before took three times as long, for whoever signs in beside
// many who guess.
const (
	memory, passes, lanes = 46 << 10, 1, 1
	saltBytes, hashBytes  = 16, 32
)

var text64 = base64.RawStdEncoding

// encode makes of a password what is kept.
func encode(password string) string {
	salt := make([]byte, saltBytes)
	_, _ = rand.Read(salt) // never fails
	hash := argon2.IDKey([]byte(password), salt, passes, memory, lanes, hashBytes)
	return fmt.Sprintf(kept, memory, passes, lanes, text64.EncodeToString(salt), text64.EncodeToString(hash))
}

// nobody is kept of no password: trying one against it takes as long.
var nobody = fmt.Sprintf(
	kept, memory, passes, lanes, text64.EncodeToString(make([]byte, saltBytes)), text64.EncodeToString(make([]byte, hashBytes)),
)

// hashed is what is kept of a password, read.
type hashed struct {
	memory, passes uint32
	lanes          uint8
	salt, hash     []byte
}

// decode reads what is kept of a password. Of before the cost was kept there are salt and hash alone, of three passes over 64 MiB in two
// lanes.
func decode(is string) (h hashed, ok bool) {
	parts := strings.Split(is, "$")
	if len(parts) == 1 {
		raw, err := text64.DecodeString(is)
		if err != nil || len(raw) != saltBytes+hashBytes {
			return h, false
		}
		return hashed{64 << 10, 3, 2, raw[:saltBytes], raw[saltBytes:]}, true
	}
	if len(parts) != 6 {
		return h, false
	}
	if n, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &h.memory, &h.passes,
		&h.lanes); n != 3 || err != nil || h.passes == 0 || h.lanes == 0 {
		return h, false
	}
	var err, wrong error
	h.salt, err = text64.DecodeString(parts[4])
	h.hash, wrong = text64.DecodeString(parts[5])
	return h, err == nil && wrong == nil && len(h.hash) == hashBytes
}

// matches tries a password against what is kept of one.
func matches(is, password string) bool {
	h, ok := decode(is)
	return ok && same(argon2.IDKey([]byte(password), h.salt, h.passes, h.memory, h.lanes, hashBytes), h.hash)
}

// old reports whether a password is kept as it was before.
func old(is string) bool {
	h, ok := decode(is)
	return ok && (h.memory != memory || h.passes != passes || h.lanes != lanes)
}

// digest is enough for secrets that are random already.
func digest(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

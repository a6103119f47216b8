package secret

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"strconv"
	"strings"

	"golang.org/x/text/secure/precis"
)

const (
	scramRounds     = 4096 // what PostgreSQL takes if nothing else is said
	scramSaltLength = 16
)

// SCRAM computes a fresh verifier of SCRAM-SHA-256 as PostgreSQL stores it:
// SCRAM-SHA-256$rounds:salt$stored key:server key (RFC 5803; PostgreSQL,
// "pg_authid").
func SCRAM(p Password) Verifier {
	salt := make([]byte, scramSaltLength)
	_, _ = rand.Read(salt) // never fails (crypto/rand)
	return scram(p, salt, scramRounds)
}

func scram(p Password, salt []byte, rounds int) Verifier {
	// A password that cannot be prepared is taken as it is, as the server does.
	prepared, err := precis.OpaqueString.String(p.plain)
	if err != nil {
		prepared = p.plain
	}
	salted, err := pbkdf2.Key(sha256.New, prepared, salt, rounds, sha256.Size)
	if err != nil { // only for lengths that are never asked for
		panic(err)
	}
	sign := func(text string) []byte {
		mac := hmac.New(sha256.New, salted)
		mac.Write([]byte(text))
		return mac.Sum(nil)
	}
	stored := sha256.Sum256(sign("Client Key"))
	encode := base64.StdEncoding.EncodeToString
	return Verifier{stored: fmt.Appendf(nil, "SCRAM-SHA-256$%d:%s$%s:%s", rounds, encode(salt), encode(stored[:]), encode(sign("Server Key"))), method: MethodSCRAM}
}

// matchesSCRAM computes the verifier anew with the rounds and the salt of v.
func (p Password) matchesSCRAM(v Verifier) (matches, known bool) {
	rest, is := strings.CutPrefix(string(v.stored), "SCRAM-SHA-256$")
	head, _, hasKeys := strings.Cut(rest, "$")
	rounds, encoded, hasSalt := strings.Cut(head, ":")
	n, errRounds := strconv.Atoi(rounds)
	salt, errSalt := base64.StdEncoding.DecodeString(encoded)
	if !is || !hasKeys || !hasSalt || errRounds != nil || errSalt != nil || n < 1 || n > 10_000_000 {
		return false, false
	}
	return scram(p, salt, n).Equal(v), true
}

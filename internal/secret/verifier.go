package secret

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
)

// A Verifier is what a server stores to check a password by: sending it
// instead of the password keeps the plain text off the wire and out of the
// server's logs. It prints as Mask, since it can be attacked offline.
type Verifier struct {
	stored []byte
	method string
}

// The ways to check a password, by the names that servers have for them.
const (
	MethodNative      = "mysql_native_password"
	MethodCachingSHA2 = "caching_sha2_password"
	MethodSCRAM       = "scram-sha-256"
	MethodMD5         = "md5"
)

// StoredVerifier wraps a verifier as a server returned it, with its method.
func StoredVerifier(method string, stored []byte) Verifier {
	return Verifier{stored: bytes.Clone(stored), method: method}
}

// NoVerifier stands for one of a method that is still to be made.
func NoVerifier(method string) Verifier { return Verifier{method: method} }

// Method is the way to log in that the verifier is for; empty where that was not
// said.
func (v Verifier) Method() string { return v.method }

// MD5 computes the verifier of PostgreSQL's md5 method (PostgreSQL, "pg_authid").
// The user's name is its only salt; it is for clients that know nothing better.
func MD5(p Password, user string) Verifier {
	sum := md5.Sum([]byte(p.plain + user))
	return Verifier{stored: []byte("md5" + hex.EncodeToString(sum[:])), method: MethodMD5}
}

// IsKnown reports whether there is anything stored: an administrator may not be allowed
// to read it, and some ways to log in have no password.
func (v Verifier) IsKnown() bool { return len(v.stored) > 0 }

// Bytes gives the verifier as the server stores it.
func (v Verifier) Bytes() []byte { return v.stored }

// Format implements fmt.Formatter: every verb prints the mask.
func (v Verifier) Format(state fmt.State, _ rune) { _, _ = state.Write([]byte(Mask)) }

// Equal compares two verifiers byte for byte.
func (v Verifier) Equal(other Verifier) bool {
	return subtle.ConstantTimeCompare(v.stored, other.stored) == 1
}

// Native computes the verifier of mysql_native_password: an asterisk and the
// upper-case hex of SHA1(SHA1(password)); MariaDB, "Authentication Plugin -
// mysql_native_password". It has no salt, so equal passwords show as equal.
func Native(p Password) Verifier {
	once := sha1.Sum([]byte(p.plain))
	twice := sha1.Sum(once[:])
	return Verifier{stored: []byte("*" + strings.ToUpper(hex.EncodeToString(twice[:]))), method: MethodNative}
}

const (
	cachingSaltLength = 20   // bytes; the server refuses any other length (error 1827)
	cachingRounds     = 5000 // fewer are stored, but no login succeeds with them
)

// saltAlphabet is that of crypt(3), which every quoting survives.
const saltAlphabet = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"

// CachingSHA2 computes a fresh verifier of caching_sha2_password in its
// default storage format: "$A$", the rounds in thousands as three hex digits,
// "$", twenty bytes of salt and the digest of SHA-256-crypt. MySQL Reference
// Manual, "Caching SHA-2 Pluggable Authentication".
func CachingSHA2(p Password) Verifier {
	salt := make([]byte, cachingSaltLength)
	for i := range salt {
		salt[i] = saltAlphabet[randomBelow(len(saltAlphabet))]
	}
	return cachingSHA2(p, salt, cachingRounds)
}

func cachingSHA2(p Password, salt []byte, rounds int) Verifier {
	stored := fmt.Appendf(nil, "$A$%03X$", rounds/1000)
	stored = append(stored, salt...)
	return Verifier{stored: append(stored, sha256Crypt([]byte(p.plain), salt, rounds)...), method: MethodCachingSHA2}
}

// Matches reports whether v is the verifier of the user's password by its own method.
// known is false for a method or a storage format that cannot be recomputed here; then
// only a login can tell.
func (p Password) Matches(user string, v Verifier) (matches, known bool) {
	switch v.method {
	case MethodNative:
		return Native(p).Equal(v), true
	case MethodCachingSHA2:
		const head = len("$A$005$")
		if len(v.stored) != head+cachingSaltLength+43 || !bytes.HasPrefix(v.stored, []byte("$A$")) {
			return false, false
		}
		thousands, err := strconv.ParseUint(string(v.stored[3:6]), 16, 16)
		if err != nil {
			return false, false
		}
		salt := v.stored[head : head+cachingSaltLength]
		return cachingSHA2(p, salt, int(thousands)*1000).Equal(v), true
	case MethodSCRAM:
		return p.matchesSCRAM(v)
	case MethodMD5:
		return MD5(p, user).Equal(v), true
	}
	return false, false
}

// sha256Crypt gives the 43 characters of SHA-256-crypt ("Unix crypt using
// SHA-256 and SHA-512", specification of 2008, version 0.6), but with a salt
// of any length: the C library cuts it to 16 bytes and MySQL does not.
func sha256Crypt(password, salt []byte, rounds int) []byte {
	b := sha256.New()
	b.Write(password)
	b.Write(salt)
	b.Write(password)
	alternate := b.Sum(nil)

	a := sha256.New()
	a.Write(password)
	a.Write(salt)
	a.Write(stretch(alternate, len(password)))
	for n := len(password); n > 0; n >>= 1 {
		if n&1 == 1 {
			a.Write(alternate)
		} else {
			a.Write(password)
		}
	}
	digest := a.Sum(nil)

	dp := sha256.New()
	for range password {
		dp.Write(password)
	}
	p := stretch(dp.Sum(nil), len(password))

	ds := sha256.New()
	for range 16 + int(digest[0]) {
		ds.Write(salt)
	}
	s := stretch(ds.Sum(nil), len(salt))

	for i := range rounds {
		c := sha256.New()
		if i%2 == 1 {
			c.Write(p)
		} else {
			c.Write(digest)
		}
		if i%3 != 0 {
			c.Write(s)
		}
		if i%7 != 0 {
			c.Write(p)
		}
		if i%2 == 1 {
			c.Write(digest)
		} else {
			c.Write(p)
		}
		digest = c.Sum(nil)
	}

	// The specification lists which three bytes form each group of four
	// characters; the last group has only two bytes.
	var out []byte
	group := func(b2, b1, b0 byte, characters int) {
		w := uint(b2)<<16 | uint(b1)<<8 | uint(b0)
		for range characters {
			out = append(out, saltAlphabet[w&0x3f])
			w >>= 6
		}
	}
	for i, j, k := 0, 10, 20; ; i, j, k = (i+21)%30, (j+21)%30, (k+21)%30 {
		group(digest[i], digest[j], digest[k], 4)
		if i == 9 {
			break
		}
	}
	group(0, digest[31], digest[30], 3)
	return out
}

// stretch repeats block to the given length.
func stretch(block []byte, length int) []byte {
	return bytes.Repeat(block, length/len(block)+1)[:length]
}

package secret

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestVerifiersOfPostgreSQL: what the server would store, for passwords whose
// verifiers were made elsewhere.
func TestVerifiersOfPostgreSQL(t *testing.T) {
	// The exchange of RFC 7677, section 3: with the server key its server signs what was
	// said, which the RFC gives.
	salt, err := base64.StdEncoding.DecodeString("W22ZaJ0SNY7soEsUEjb6gQ==")
	require.NoError(t, err)
	const stored = "SCRAM-SHA-256$4096:W22ZaJ0SNY7soEsUEjb6gQ==$WG5d8oPm3OtcPnkdi4Uo7BkeZkBFzpcXkuLmtbsT4qY=:wfPLwcE6nTWhTAmQ7tl2KeoiWGPlZqQxSrmfPwDl2dU="
	assert.Equal(t, stored, string(scram(NewPassword("pencil"), salt, 4096).Bytes()))
	key, err := base64.StdEncoding.DecodeString(stored[strings.LastIndexByte(stored, ':')+1:])
	require.NoError(t, err)
	mac := hmac.New(sha256.New, key)
	const nonce = "rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0"
	mac.Write([]byte("n=user,r=rOprNGfwEbeRWgbNEkqO,r=" + nonce + ",s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096,c=biws,r=" + nonce))
	assert.Equal(t, "6rriTRBi23WpRR/wtup+mMhUZUn/dB5nLTJRsjl95G4=", base64.StdEncoding.EncodeToString(mac.Sum(nil)))
	for password, matches := range map[string]bool{"pencil": true, "pencil ": false, "Pencil": false, "": false} {
		has, known := NewPassword(password).Matches("", StoredVerifier(MethodSCRAM, []byte(stored)))
		assert.True(t, known)
		assert.Equal(t, matches, has, password)
	}
	// A soft hyphen and a space that is none are what SASLprep is for.
	assert.Equal(t, scram(NewPassword("a b"), salt, 10), scram(NewPassword("a\u00a0b"), salt, 10))
	for _, broken := range []string{"", "SCRAM-SHA-256$", "SCRAM-SHA-256$4096:W22Z", "SCRAM-SHA-256$x:W22ZaJ0SNY7soEsUEjb6gQ==$a:b", "SCRAM-SHA-256$999999999:W22ZaJ0SNY7soEsUEjb6gQ==$a:b", "md5490ffb66be84adea98dc414bc87a3659"} {
		_, known := NewPassword("pencil").Matches("", StoredVerifier(MethodSCRAM, []byte(broken)))
		assert.False(t, known, broken)
	}
	first, second := SCRAM(NewPassword("pencil")), SCRAM(NewPassword("pencil"))
	assert.False(t, first.Equal(second), "each has a salt of its own")

	assert.Equal(t, "md5490ffb66be84adea98dc414bc87a3659", string(MD5(NewPassword("hive-77"), "joe").Bytes())) // printf 'hive-77joe' | md5sum
}

package dbms

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"net"
	"os"
	"strings"

	"yellowfield/internal/fault"
)

// TLSMode says how a TCP connection is encrypted.
type TLSMode string

// The TLS modes of the estate file.
const (
	TLSNone    TLSMode = "none"
	TLSPrefer  TLSMode = "prefer"  // encrypted when the server can, without checking who it is
	TLSRequire TLSMode = "require" // encrypted or not at all, without checking who it is
	TLSVerify  TLSMode = "verify"  // encrypted, and the certificate must name the host
)

// TLSModes lists them for validation and help.
var TLSModes = []string{string(TLSNone), string(TLSPrefer), string(TLSRequire), string(TLSVerify)}

// fingerprintOf marks the fingerprint of a certificate by how it was made.
const fingerprintOf = "sha256:"

// Fingerprint is the SHA-256 of a certificate in DER, as the estate file writes it.
func Fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return fingerprintOf + hex.EncodeToString(sum[:])
}

// ParseFingerprint reads one in any usual writing, capitals and colons between
// its bytes included, and gives it as Fingerprint does.
func ParseFingerprint(text string) (string, bool) {
	digits, marked := strings.CutPrefix(strings.ToLower(strings.TrimSpace(text)), fingerprintOf)
	digits = strings.ReplaceAll(digits, ":", "")
	sum, err := hex.DecodeString(digits)
	return fingerprintOf + digits, marked && err == nil && len(sum) == sha256.Size
}

// OverNetwork reports whether the way to the server leaves this host, so that
// somebody else could answer.
func (a Address) OverNetwork() bool {
	if a.Socket != "" || a.Host == "localhost" {
		return false
	}
	ip := net.ParseIP(a.Host)
	return ip == nil || !ip.IsLoopback()
}

// Encrypted reports whether what is sent stays unseen by those who listen.
func (a Address) Encrypted() bool {
	return a.Socket != "" || a.TLS == TLSRequire || a.TLS == TLSVerify
}

// TLSConfig is how a connection over TCP is encrypted; nil for one that is not.
// An error names the file of certificates that cannot be used.
func (a Address) TLSConfig(server string) (*tls.Config, error) {
	switch a.TLS {
	case TLSNone:
		return nil, nil
	case TLSVerify:
	default:
		return &tls.Config{InsecureSkipVerify: true}, nil
	}
	config := &tls.Config{ServerName: a.Host}
	switch {
	case a.Certificate != "":
		// Known by itself, whoever has signed it and whatever name is in it.
		config.InsecureSkipVerify = true
		config.VerifyConnection = func(state tls.ConnectionState) error {
			if seen := state.PeerCertificates; Fingerprint(seen[0]) != a.Certificate {
				return &tls.CertificateVerificationError{UnverifiedCertificates: seen, Err: errors.New("it is not the certificate that the estate file names")}
			}
			return nil
		}
	case a.CA != "":
		pem, err := a.TrustedCertificates(server)
		config.RootCAs = x509.NewCertPool()
		if err != nil || !config.RootCAs.AppendCertsFromPEM([]byte(pem)) {
			return nil, fault.At(fault.Invalid, fault.Place{File: a.CA}, "give a file of PEM certificates as ca",
				"no certificate can be read for server %s", server).With(err)
		}
	}
	return config, nil
}

// TrustedCertificates are those of CA, as text; empty where the address names none, or
// does not have them checked.
func (a Address) TrustedCertificates(server string) (string, error) {
	if a.CA == "" || a.TLS != TLSVerify || a.Trusted != "" {
		return a.Trusted, nil
	}
	pem, err := os.ReadFile(a.CA)
	if err != nil {
		return "", fault.At(fault.Invalid, fault.Place{File: a.CA}, "give a file of PEM certificates as ca", "no certificate can be read for server %s", server).With(err)
	}
	return string(pem), nil
}

// unproved explains a login that was not tried, since the server did not prove
// to be the one that was meant.
func unproved(l Login, refused *tls.CertificateVerificationError) error {
	next := "give the issuing authority's certificate as ca, and the name in the certificate as host"
	if seen := refused.UnverifiedCertificates; len(seen) > 0 {
		next = "compare with the server's own certificate, on its host (openssl x509 -noout -fingerprint -sha256 -in FILE); if it is the same, write under servers." + l.Server + ": certificate: " + Fingerprint(seen[0]) +
			"; or give the issuing authority's certificate as ca, and the name in it as host"
	}
	return fault.New(fault.Failed, next, "server %s at %s does not prove who it is, and no password was sent: %v", l.Server, l.Address, refused.Err).With(refused)
}

// NoTLS explains a login that was not tried, since the server offers no TLS.
func NoTLS(l Login, err error) error {
	return fault.New(fault.Failed, "set up TLS on the server, or reach it through a tunnel; with tls: none under servers."+l.Server+" it goes in plain, and a stranger on the way can read it or take it over",
		"server %s at %s offers no TLS, and no password was sent", l.Server, l.Address).With(err)
}

package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"
)

// makeCertificates writes ca.pem, and cert.pem with key.pem for 127.0.0.1.
func makeCertificates(folder string) error {
	caKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	ca := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Meadowgate test authority"}, IsCA: true, BasicConstraintsValid: true,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), KeyUsage: x509.KeyUsageCertSign,
	}
	leaf := &x509.Certificate{
		SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "barn"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: ca.NotBefore, NotAfter: ca.NotAfter, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	caBytes, caErr := x509.CreateCertificate(rand.Reader, ca, ca, &caKey.PublicKey, caKey)
	leafBytes, leafErr := x509.CreateCertificate(rand.Reader, leaf, ca, &key.PublicKey, caKey)
	keyBytes, keyErr := x509.MarshalECPrivateKey(key)
	save := func(name, kind string, content []byte) error {
		// The server runs as another user, and the key is for this test alone.
		return os.WriteFile(filepath.Join(folder, name), pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: content}), 0o644)
	}
	return errors.Join(caErr, leafErr, keyErr, save("ca.pem", "CERTIFICATE", caBytes), save("cert.pem", "CERTIFICATE", leafBytes),
		save("key.pem", "EC PRIVATE KEY", keyBytes), os.Chmod(folder, 0o711))
}

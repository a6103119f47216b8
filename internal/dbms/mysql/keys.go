package mysql

import (
	"context"

	"yellowfield/internal/dbms"
)

// LacksPasswordKey reports whether the server has no RSA key, by which clients
// send a password over a TCP connection without TLS. Such a login works only
// while the server remembers an earlier one of the account: until its next start
// (MySQL Reference Manual, "Caching SHA-2 Pluggable Authentication").
func (s *Server) LacksPasswordKey(ctx context.Context) (bool, error) {
	if s.facts.Product != dbms.MySQL { // whose accounts log in so
		return false, nil
	}
	lacks := false
	err := s.each(ctx, "SHOW GLOBAL STATUS LIKE 'Caching_sha2_password_rsa_public_key'", nil, func(scan func(...any) error) error {
		var name, key string
		err := scan(&name, &key)
		lacks = key == ""
		return err
	})
	return lacks, err
}

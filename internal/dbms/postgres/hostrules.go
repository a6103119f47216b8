package postgres

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
)

// HostRule is a line of the server's host-based rules (PostgreSQL, "The
// pg_hba.conf File").
type HostRule struct {
	Place     fault.Place // file and line on the server's host
	Type      string      // local, host, hostssl, hostnossl, hostgssenc, hostnogssenc
	Databases []string
	Users     []string
	Address   string // of the client, or a word such as samehost; empty for local
	Netmask   string
	Method    string
	Error     string // why the server cannot use the line
}

// String is the rule as it could stand in the file.
func (h HostRule) String() string {
	fields := []string{h.Type, strings.Join(h.Databases, ","), strings.Join(h.Users, ",")}
	if h.Address != "" {
		fields = append(fields, h.Address)
	}
	if h.Netmask != "" {
		fields = append(fields, h.Netmask)
	}
	return strings.Join(append(fields, h.Method), " ")
}

// HostRules reads the rules as they stand in the file, which superusers may. That includes
// changes that were not loaded yet.
func (s *Server) HostRules(ctx context.Context) ([]HostRule, error) {
	file := "current_setting('hba_file')"
	if s.version >= 160000 { // includes have files of their own
		file = "COALESCE(file_name, current_setting('hba_file'))"
	}
	var rules []HostRule
	err := s.each(ctx, s.Database, `SELECT `+file+`, line_number, COALESCE(type, ''), COALESCE(database, '{}'), COALESCE(user_name, '{}'),
		COALESCE(address, ''), COALESCE(netmask, ''), COALESCE(auth_method, ''), COALESCE(error, '') FROM pg_catalog.pg_hba_file_rules ORDER BY 1, line_number`, nil, func(rows pgx.Rows) error {
		var h HostRule
		err := rows.Scan(&h.Place.File, &h.Place.Line, &h.Type, &h.Databases, &h.Users, &h.Address, &h.Netmask, &h.Method, &h.Error)
		rules = append(rules, h)
		return err
	})
	return rules, err
}

// ReadFile reads a file on the server's host, which superusers may.
func (s *Server) ReadFile(ctx context.Context, path string) (content []byte, err error) {
	err = s.each(ctx, s.Database, `SELECT pg_read_binary_file($1)`, []any{path}, func(rows pgx.Rows) error { return rows.Scan(&content) })
	return content, err
}

// ClientLogin is a login as the rules see it.
type ClientLogin struct {
	Database, User string
	// Roles are those that the user is a member of, itself included.
	Roles []string
	// From is the client's address; the zero value comes through the socket.
	From netip.Addr
	TLS  bool
}

// FirstMatch finds the rule that decides about a login: the first that fits, since the server
// looks no further. ok is false when none fits, which refuses it. unsure says that an earlier
// rule might fit, too, but cannot be judged from here: one with a host name or a network of
// the server's own.
func FirstMatch(rules []HostRule, g ClientLogin) (rule HostRule, ok, unsure bool) {
	for _, rule := range rules {
		if rule.Type == "" || !rule.takesConnection(g) || !rule.takesDatabase(g) || !rule.takesUser(g) {
			continue
		}
		fits, known := rule.takesAddress(g)
		switch {
		case !known:
			unsure = true
		case fits:
			return rule, true, unsure
		}
	}
	return HostRule{}, false, unsure
}

func (h HostRule) takesConnection(g ClientLogin) bool {
	local := !g.From.IsValid()
	switch h.Type {
	case "local":
		return local
	case "host", "hostnogssenc":
		return !local
	case "hostssl":
		return !local && g.TLS
	case "hostnossl":
		return !local && !g.TLS
	}
	return false
}

func (h HostRule) takesDatabase(g ClientLogin) bool {
	return slices.ContainsFunc(h.Databases, func(name string) bool {
		switch name {
		case "all":
			return true
		case "sameuser":
			return g.Database == g.User
		case "samerole", "samegroup":
			return slices.Contains(g.Roles, g.Database)
		}
		return name == g.Database
	})
}

func (h HostRule) takesUser(g ClientLogin) bool {
	return slices.ContainsFunc(h.Users, func(name string) bool {
		if role, is := strings.CutPrefix(name, "+"); is {
			return slices.Contains(g.Roles, role)
		}
		return name == "all" || name == g.User
	})
}

func (h HostRule) takesAddress(g ClientLogin) (fits, known bool) {
	if h.Type == "local" || h.Address == "all" {
		return true, true
	}
	address, err := netip.ParseAddr(h.Address)
	if err != nil { // a host's name, samehost, samenet
		return h.Address == "samehost" && g.From.IsLoopback(), h.Address == "samehost" && g.From.IsLoopback()
	}
	bits := address.BitLen()
	if mask, err := netip.ParseAddr(h.Netmask); err == nil {
		bits, _ = net.IPMask(mask.AsSlice()).Size()
	}
	return netip.PrefixFrom(address, bits).Contains(g.From), true
}

// passwordMethods ask for a password that PHP can give.
var passwordMethods = []string{"scram-sha-256", "md5", "password"}

// AsksForPassword reports whether the rule takes a login by password, or lets it
// in without asking.
func (h HostRule) AsksForPassword() bool {
	return slices.Contains(passwordMethods, h.Method) || h.Method == "trust"
}

// RuleMatch is what a login meets: the rule that decides about it, if there is one.
type RuleMatch struct {
	Login ClientLogin
	Rule  HostRule
	Fits  bool   // some rule does
	File  string // of the rules
}

// MatchRule finds the rule for a login; nil where that cannot be told from here.
func (s *Server) MatchRule(ctx context.Context, g ClientLogin) (*RuleMatch, error) {
	rules, err := s.HostRules(ctx)
	if err != nil || len(rules) == 0 {
		return nil, err
	}
	m := &RuleMatch{Login: g, File: rules[0].Place.File}
	if m.Login.Roles, err = s.rolesOf(ctx, g.User); err != nil {
		return nil, err
	}
	unsure := false
	if m.Rule, m.Fits, unsure = FirstMatch(rules, m.Login); unsure {
		return nil, nil
	}
	return m, nil
}

// LetsIn reports whether the login is let in by its password.
func (m *RuleMatch) LetsIn() bool { return m.Rule.AsksForPassword() }

// String says in one sentence what a login meets that is not let in by its password.
func (m *RuleMatch) String() string {
	how := "through the socket"
	if m.Login.From.IsValid() {
		how = "from " + m.Login.From.String()
	}
	if !m.Fits {
		return fmt.Sprintf("no host-based rule lets %s in %s, so that its password is not asked for", m.Login.User, how)
	}
	return fmt.Sprintf("%s:%d is %q, so that the password login of %s %s will be refused", filepath.Base(m.Rule.Place.File), m.Rule.Place.Line, m.Rule, m.Login.User, how)
}

// Place is where the rule stands, or the file that lacks one.
func (m *RuleMatch) Place() *fault.Place {
	if !m.Fits {
		return &fault.Place{File: m.File}
	}
	return &m.Rule.Place
}

// ByHand says how to change the file by hand.
func (m *RuleMatch) ByHand() string {
	where := "at its end"
	if m.Fits {
		where = fmt.Sprintf("before line %d", m.Rule.Place.Line)
	}
	return fmt.Sprintf("put %s: %s; then SELECT pg_reload_conf()", where, m.Proposal())
}

// Proposal is the line that would let the login in by password; it has to stand before
// the rule that decides now.
func (m *RuleMatch) Proposal() string {
	g := m.Login
	if !g.From.IsValid() {
		return fmt.Sprintf("local  %s  %s  scram-sha-256", g.Database, g.User)
	}
	kind := "host"
	if g.TLS {
		kind = "hostssl"
	}
	return fmt.Sprintf("%s  %s  %s  %s  scram-sha-256", kind, g.Database, g.User, netip.PrefixFrom(g.From, g.From.BitLen()))
}

// Insert puts the proposal into the file's content, and leaves every other byte.
func (m *RuleMatch) Insert(content []byte) []byte {
	line := m.Proposal() + "\n"
	if !m.Fits {
		if len(content) > 0 && content[len(content)-1] != '\n' {
			line = "\n" + line
		}
		return append(bytes.Clone(content), line...)
	}
	at := 0
	for range m.Rule.Place.Line - 1 {
		at += bytes.IndexByte(content[at:], '\n') + 1
	}
	return append(append(bytes.Clone(content[:at]), line...), content[at:]...)
}

// rolesOf are the roles that a user is a member of, directly or through others,
// and itself.
func (s *Server) rolesOf(ctx context.Context, user string) ([]string, error) {
	roles := []string{user}
	err := s.each(ctx, s.Database, `SELECT r.rolname FROM pg_catalog.pg_roles r, pg_catalog.pg_roles u WHERE u.rolname = $1 AND r.rolname <> $1 AND pg_has_role(u.oid, r.oid, 'MEMBER')`, []any{user}, func(rows pgx.Rows) error {
		var name string
		err := rows.Scan(&name)
		roles = append(roles, name)
		return err
	})
	return roles, err
}

// Mentions lists the host-based rules that name a database, for logins that may read them.
func (s *Server) Mentions(ctx context.Context, database string) (found []string, err error) {
	rules, err := s.HostRules(ctx)
	if dbms.CauseOf(err) == dbms.NoRightThere {
		return nil, nil
	}
	for _, rule := range rules {
		if slices.Contains(rule.Databases, database) {
			found = append(found, fmt.Sprintf("host-based rule %s:%d: %s", rule.Place.File, rule.Place.Line, rule))
		}
	}
	return found, err
}

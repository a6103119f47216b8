package mysql

import (
	"context"
	"strings"
)

// known is what the leader knows of the tables that there are, so that it need not send
// what would come to nothing. Names are in small letters, whatever the server makes of them.
type known struct {
	here   map[string]bool // tables and views that may be there
	innodb map[string]bool // made by the script as tables of InnoDB, and not changed since
	unsure bool            // something has run whose outcome is not known
}

func (k *known) begin(ctx context.Context, session Session) error {
	k.here, k.innodb = map[string]bool{}, map[string]bool{}
	found, err := session.Query(ctx, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE()")
	for _, row := range found {
		k.here[strings.ToLower(row[0])] = true
	}
	return err
}

// isIdle reports a statement that would come to nothing but a note: DROP TABLE IF EXISTS of
// what is not there, and DISABLE KEYS on a table of InnoDB, which has no keys to switch off.
func (k *known) isIdle(v verdict) bool {
	switch {
	case v.kind == keySwitch:
		return k.innodb[strings.ToLower(v.tables[0])]
	case v.kind != definition || v.head.Verb != "DROP" || v.head.Object != "TABLE" || k.unsure || !v.tokens.Begins("DROP", "TABLE", "IF", "EXISTS"):
		return false
	}
	for _, t := range v.tokens {
		if t.IsPunct('.') {
			return false
		}
	}
	for _, name := range v.tables {
		if k.here[strings.ToLower(name)] {
			return false
		}
	}
	return true
}

// done takes in what a statement on the main session has done.
func (k *known) done(v verdict) {
	for _, name := range v.tables {
		if v.kind != rows && v.kind != indexes && v.kind != keySwitch {
			delete(k.innodb, strings.ToLower(name))
		}
	}
	name := strings.ToLower(v.head.Name.Name)
	switch makes := v.head.Verb == "CREATE" && (v.head.Object == "TABLE" || v.head.Object == "VIEW" || v.head.Object == "SEQUENCE"); {
	case makes:
		k.innodb[name] = !k.here[name] && v.kind == definition && v.table != nil && strings.EqualFold(v.table.Options.Engine, "InnoDB")
		k.here[name] = true
	case v.kind == anything && v.head.Verb != "SELECT":
		k.unsure = true
		clear(k.innodb)
	}
}

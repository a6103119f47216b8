package judge

import (
	"strings"

	"yellowfield/internal/fault"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/wordset"
)

// mapping is a collation that takes the place of another, first at a statement.
type mapping struct {
	to string
	at fault.Place
}

// translate replaces collations that the server lacks and, if asked to, old
// character sets and engines. It is for definitions and settings, never for
// rows.
func (j *Judge) translate(tokens sqltext.Tokens, at fault.Place) []edit {
	var edits []edit
	next := func(i int) sqltext.Token {
		const most = 2 // CHARACTER SET = x
		for end := i + 1 + most; i+1 < end && (tokens.At(i+1).IsPunct('=') || tokens.At(i+1).Is("SET")); i++ {
		}
		i++
		if i < len(tokens) {
			return tokens[i]
		}
		return sqltext.Token{Kind: sqltext.Punct, Text: []byte{0}}
	}
	for i, t := range tokens {
		if t.Kind != sqltext.Word {
			continue
		}
		value := next(i)
		replace := func(with string) {
			if value.Kind == sqltext.Punct {
				return
			}
			if value.Kind == sqltext.String {
				with = "'" + with + "'"
			}
			edits = append(edits, edit{value.Start, value.End, with})
		}
		var room [longestWord]byte
		upper := t.Upper(room[:0])
		if !ofCharsets[string(upper)] {
			continue
		}
		name := strings.ToLower(value.Plain())
		switch string(upper) {
		case "COLLATE", "COLLATION_CONNECTION":
			if j.options.ConvertCharset && isOldCharset(charsetOf(name)) {
				replace(j.modernCollation(name))
			} else if replacement := j.replacement(name); replacement != "" {
				if _, seen := j.mapped[name]; !seen {
					j.mapped[name] = mapping{replacement, at}
				}
				if j.options.MapCollations {
					replace(replacement)
				}
			}
		case "CHARSET", "CHARACTER":
			if strings.EqualFold(string(t.Text), "CHARACTER") && (i+1 >= len(tokens) || !tokens[i+1].Is("SET")) {
				continue
			}
			if j.options.ConvertCharset && isOldCharset(name) {
				replace("utf8mb4")
			}
		case "ENGINE":
			if j.options.ConvertCharset && (name == "myisam" || name == "aria") {
				replace("InnoDB")
			}
		}
	}
	return edits
}

// ofCharsets are the words that translate looks for.
var ofCharsets = wordset.Of("COLLATE COLLATION_CONNECTION CHARSET CHARACTER ENGINE")

// charsetOf is the character set that a collation's name begins with.
func charsetOf(collation string) string {
	charset, _, _ := strings.Cut(collation, "_")
	return charset
}

func isOldCharset(name string) bool {
	return name == "latin1" || name == "utf8" || name == "utf8mb3"
}

// modernCollation is the utf8mb4 collation that orders most like the given.
func (j *Judge) modernCollation(old string) string {
	charset, rest, _ := strings.Cut(old, "_")
	candidate := "utf8mb4_" + rest
	if charset == "latin1" && rest != "bin" {
		candidate = "utf8mb4_general_ci"
	}
	if _, known := j.server.Collations[candidate]; known {
		return candidate
	}
	return "utf8mb4_general_ci"
}

// replacement is what takes the place of a collation that the server lacks:
// first those of the other product that sort by the same rules. Empty when the
// server has it, or nothing is like it.
func (j *Judge) replacement(name string) string {
	if _, known := j.server.Collations[name]; known || name == "" || name == "default" || name == "binary" || !strings.Contains(name, "_") || charsetOf(name) == "utf8" {
		return ""
	}
	// MariaDB knows its uca1400 collations also without the character set.
	if _, known := j.server.Collations["utf8mb4_"+name]; known {
		return ""
	}
	charset, rest, _ := strings.Cut(name, "_")
	if charset == "uca1400" {
		charset, rest = "utf8mb4", name
	}
	var candidates []string
	switch {
	case strings.HasPrefix(rest, "0900_bin"):
		candidates = []string{"utf8mb4_nopad_bin", "utf8mb4_bin"}
	case strings.HasSuffix(rest, "0900_as_cs"):
		candidates = []string{"utf8mb4_uca1400_as_cs", "utf8mb4_bin"}
	case strings.HasSuffix(rest, "0900_as_ci"):
		candidates = []string{"utf8mb4_uca1400_as_ci", "utf8mb4_unicode_520_ci"}
	case strings.Contains(rest, "0900_"):
		candidates = []string{"utf8mb4_uca1400_ai_ci", "utf8mb4_unicode_520_ci"}
	case strings.Contains(rest, "as_cs"):
		candidates = []string{"utf8mb4_0900_as_cs", "utf8mb4_bin"}
	case strings.Contains(rest, "as_ci"):
		candidates = []string{"utf8mb4_0900_as_ci", "utf8mb4_unicode_520_ci"}
	case strings.HasPrefix(rest, "uca1400"), strings.HasSuffix(rest, "nopad_ci"):
		candidates = []string{"utf8mb4_0900_ai_ci", "utf8mb4_unicode_520_ci"}
	case strings.HasSuffix(rest, "bin"):
		candidates = []string{charset + "_bin"}
	default:
		candidates = []string{"utf8mb4_unicode_520_ci"}
	}
	for _, candidate := range candidates {
		if charsetOf(candidate) == charset || charset == "utf8mb4" {
			if _, known := j.server.Collations[candidate]; known {
				return candidate
			}
		}
	}
	return ""
}

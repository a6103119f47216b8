package propose

import (
	"encoding/json"
	"errors"
	"strings"
	"unicode/utf8"

	"yellowfield/internal/fault"
)

// meanings are keys and values in their order: what an entry is meant to say, beside
// its text with the remarks. It is written as JSON, which YAML can be read as
// (YAML 1.2, section 1.3), so that no text of a tree can become anything else.
type meanings []fact

type fact struct {
	key   string
	value any
}

func (f *meanings) add(key string, value any) { *f = append(*f, fact{key, value}) }

// MarshalJSON writes an object with the keys in their order.
func (f meanings) MarshalJSON() ([]byte, error) {
	b := []byte("{")
	for i, one := range f {
		if i > 0 {
			b = append(b, ',')
		}
		key, keyErr := quoted(one.key)
		value, valueErr := quoted(one.value)
		if err := errors.Join(keyErr, valueErr); err != nil {
			return nil, err
		}
		b = append(append(append(b, key...), ": "...), value...)
	}
	return append(b, '}'), nil
}

// text gives the facts as the lines of an entry.
func (f meanings) text() (string, error) {
	var b strings.Builder
	for _, one := range f {
		value, err := quoted(one.value)
		if err != nil {
			return "", err
		}
		b.WriteString(one.key + ": " + string(value) + "\n")
	}
	return b.String(), nil
}

// quoted writes a value as JSON. A text that is no UTF-8, as a file's name may be,
// has none.
func quoted(value any) ([]byte, error) {
	texts, _ := value.([]string)
	if text, is := value.(string); is {
		texts = []string{text}
	}
	for _, text := range texts {
		if !utf8.ValidString(text) {
			return nil, fault.New(fault.Invalid, "rename it", "%q is not UTF-8, which the estate file needs", text)
		}
	}
	return json.Marshal(value)
}

package fault

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestErrorSaysWhatWhereAndNext(t *testing.T) {
	err := At(Invalid, Place{"a.yaml", 3, 7}, "write b", "a is %d", 1).With(io.EOF)
	assert.Equal(t, "a.yaml:3:7: a is 1 (write b)", err.Error())
	assert.ErrorIs(t, err, io.EOF)
	assert.Equal(t, "a.yaml:3", Place{"a.yaml", 3, 0}.String())
	assert.Equal(t, "a.yaml", Place{"a.yaml", 0, 0}.String())
}

func TestExitCodes(t *testing.T) {
	for class, code := range map[Class]int{Failed: 1, Invalid: 2, Differs: 3, Protected: 4, Interrupted: 130} {
		assert.Equal(t, code, class.ExitCode())
	}
}

func TestAllTakesJoinedAndWrappedErrorsApart(t *testing.T) {
	one, two := New(Invalid, "", "one"), New(Protected, "", "two")
	joined := fmt.Errorf("wrapped: %w", errors.Join(one, fmt.Errorf("and: %w", errors.Join(two, errors.New("three")))))
	var found []string
	for _, f := range All(joined) {
		found = append(found, f.What)
	}
	assert.Equal(t, []string{"one", "two", "three"}, found)
	assert.Nil(t, All(nil))
	assert.Equal(t, "outer: inner", All(fmt.Errorf("outer: %w", errors.New("inner")))[0].What, "what is no fault keeps its words")
}

func TestExcerpt(t *testing.T) {
	source := []byte("one\r\n\ttwo é three\nfour")
	assert.Equal(t, "2 |  two é three\n  |      ^", Excerpt(source, Place{Line: 2, Column: 6}))
	assert.Equal(t, "3 | four", Excerpt(source, Place{Line: 3}))
	assert.Empty(t, Excerpt(source, Place{Line: 9}))
	assert.Empty(t, Excerpt(source, Place{}))

	long := strings.Repeat("x", 300) + "HERE" + strings.Repeat("y", 300)
	excerpt := Excerpt([]byte(long), Place{Line: 1, Column: 301})
	lines := strings.Split(excerpt, "\n")
	assert.LessOrEqual(t, len(lines[0]), 72)
	assert.Equal(t, "H", lines[0][strings.IndexByte(lines[1], '^'):][:1], "the caret stands below its column")
}

func TestNearest(t *testing.T) {
	known := []string{"database", "databases", "folder", "import"}
	assert.Equal(t, []string{"database", "databases"}, Nearest("databse", known))
	assert.Equal(t, []string{"folder"}, Nearest("FODLER", known), "a swap counts once, case not at all")
	assert.Empty(t, Nearest("charset", known))
	assert.Equal(t, "did you mean import?", DidYouMean("imprt", known, "none"))
	assert.Equal(t, "none", DidYouMean("zzz", known, "none"))
}

package website

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAPageThatIsThereIsToldFromOneThatIsNot has sites answer as they do: with an error,
// with one page for everything, and with a link to elsewhere.
func TestAPageThatIsThereIsToldFromOneThatIsNot(t *testing.T) {
	for name, c := range map[string]struct {
		answer func(http.ResponseWriter, *http.Request)
		there  string
	}{
		"gone":             {http.NotFound, ""},
		"the same for all": {func(w http.ResponseWriter, r *http.Request) { _, _ = w.Write([]byte("no page " + r.URL.Path)) }, ""},
		"a link with the name": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "/login?to="+r.URL.Path, http.StatusFound)
		}, ""},
		"still there": {func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path != "/shop/setup/" {
				http.NotFound(w, r)
			}
		}, "status 200, and 404"},
		"another page": {func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/shop/setup/" {
				_, _ = w.Write([]byte("Welcome to the installer"))
			}
		}, "status 200 with another page"},
	} {
		server := httptest.NewServer(http.HandlerFunc(c.answer))
		nothing, err := AskForNothing(t.Context(), server.URL+"/shop", "setup/")
		require.NoError(t, err)
		answer, err := Ask(t.Context(), server.URL+"/shop", "setup/")
		require.NoError(t, err)
		if c.there == "" {
			assert.Empty(t, answer.Difference(nothing), name)
		} else {
			assert.Contains(t, answer.Difference(nothing), c.there, name)
		}
		server.Close()
		_, err = Ask(t.Context(), server.URL, "setup/")
		assert.Error(t, err)
		assert.NotContains(t, err.Error(), "http://", "the address is told by whoever asks")
	}
}

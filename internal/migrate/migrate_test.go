package migrate

import (
	"context"
	"net/http"
	"net/http/httptest"
	"testing"

	"freshkeel/internal/profile"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A makers' page stays on its own host and port: neither its form nor a redirect brings what is filled in to
// another server of this machine, and no error repeats it.
func TestAPageStaysWhereItIs(t *testing.T) {
	got := ""
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		r.ParseForm()
		got += r.Form.Get("licence") + r.URL.RawQuery
	}))
	defer other.Close()
	said := ""
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/elsewhere":
			w.Write([]byte(`<form action="` + other.URL + `/take"><input name="licence"></form>`))
		case "/redirects", "/asks":
			if r.Method == http.MethodPost || r.URL.Path == "/asks" {
				http.Redirect(w, r, other.URL+"/take?licence=moss-0123-fern", http.StatusTemporaryRedirect)
				return
			}
			w.Write([]byte(`<form><input name="licence"></form>`))
		default:
			r.ParseForm()
			said = r.Form.Get("licence")
			w.Write([]byte(`<form><input name="licence"></form><p>done</p>`))
		}
	}))
	defer page.Close()
	run := func(path string) error {
		ctx, cancel := context.WithCancel(context.Background())
		if path == "/asks" {
			cancel() // which is asked once more for as long as it may come up
		}
		defer cancel()
		m := profile.Migration{Page: page.URL + path, Form: map[string]string{"licence": "moss-0123-fern"}}
		return (&Migrator{}).page(ctx, m, "1", "2", &heard{m: m, each: func(string) {}})
	}
	for path, why := range map[string]string{"/elsewhere": "its form is sent to", "/redirects": "stays not at", "/asks": ""} {
		err := run(path)
		require.Error(t, err, path)
		assert.Contains(t, err.Error(), why)
		assert.NotContains(t, err.Error(), "fern", "the error has what was filled in")
	}
	assert.Empty(t, got, "another server got what was filled in")
	require.NoError(t, run("/"))
	assert.Equal(t, "moss-0123-fern", said)
}

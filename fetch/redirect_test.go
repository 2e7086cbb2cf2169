package fetch

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhichRedirectsAreFollowed(t *testing.T) {
	for _, x := range []struct {
		from, to string
		want     string
	}{
		{"http://192.0.2.1/", "http://192.0.2.2/", ""},
		{"http://192.0.2.1/", "https://192.0.2.2/", ""},
		{"https://192.0.2.1/", "http://192.0.2.1/", "it leads from TLS to plain HTTP"},
		{"http://192.0.2.1/", "file:///etc/passwd", "it leads to file:, from which nothing is fetched"},
		{"http://192.0.2.1/", "http://127.0.0.1/", "it leads to an address inside"},
		{"http://192.0.2.1/", "http://[::1]/", "it leads to an address inside"},
		{"http://192.0.2.1/", "http://[::ffff:127.0.0.1]/", "it leads to an address inside"},
		{"http://192.0.2.1/", "http://169.254.169.254/latest", "it leads to an address inside"},
		{"http://192.0.2.1/", "http://10.0.0.1/", "it leads to an address inside"},
		{"http://192.0.2.1/", "http://0.0.0.0/", "it leads to an address inside"},
		{"http://10.0.0.1/", "http://10.0.0.2/", ""},
		{"http://10.0.0.1/", "http://127.0.0.1/", "it leads to an address inside"},
		{"http://127.0.0.1:1/", "http://127.0.0.1:2/", ""},
		{"http://127.0.0.1/", "http://10.0.0.2/", ""},
	} {
		via := []*http.Request{httptest.NewRequest(http.MethodGet, x.from, nil)}
		err := redirect(httptest.NewRequest(http.MethodGet, x.to, nil), via)
		got := ""
		if err != nil {
			got = err.Error()
		}
		assert.Equal(t, x.want, got, "%s to %s", x.from, x.to)
	}
}

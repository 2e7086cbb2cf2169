package agent

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// refuser is a service of before: it does not know some properties, and says so as the service does (service/web tests that).
type refuser struct {
	unknown []string
	calls   int
	taken   string
}

func (s *refuser) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.calls++
	body, _ := io.ReadAll(r.Body)
	var tree any
	_ = json.Unmarshal(body, &tree)
	var errs []string
	var walk func(tree any, at, numbered string)
	walk = func(tree any, at, numbered string) {
		switch x := tree.(type) {
		case map[string]any:
			for key, value := range x {
				if slices.Contains(s.unknown, at+key) {
					errs = append(errs, fmt.Sprintf(`{"message":"unexpected property","location":"body.%s%s"}`, numbered, key))
					continue
				}
				walk(value, at+key+".", numbered+key+".")
			}
		case []any:
			for i, value := range x {
				walk(value, at, fmt.Sprintf("%s[%d].", strings.TrimSuffix(numbered, "."), i))
			}
		}
	}
	walk(tree, "", "")
	if len(errs) > 0 {
		w.WriteHeader(http.StatusUnprocessableEntity)
		fmt.Fprintf(w, `{"status":422,"detail":"unexpected property","errors":[%s]}`, strings.Join(errs, ","))
		return
	}
	s.taken = string(body)
}

// A service that is older than its agents hears of what it knows.
func TestAnOlderServiceIsToldWhatItKnows(t *testing.T) {
	type part struct {
		New  string `json:"new,omitempty"`
		Kept int64  `json:"kept"`
	}
	type said struct {
		Survey string          `json:"survey"`
		Count  int64           `json:"count"`
		Late   string          `json:"late,omitempty"`
		Parts  []part          `json:"parts,omitempty"`
		ByName map[string]part `json:"by_name,omitempty"`
	}
	rapid.Check(t, func(rt *rapid.T) {
		of := &refuser{unknown: rapid.SliceOfDistinct(rapid.SampledFrom([]string{"late", "parts", "parts.new", "by_name", "by_name.x.new"}), rapid.ID[string]).Draw(rt, "unknown")}
		server := httptest.NewServer(of)
		defer server.Close()
		now := time.Now()
		l := &link{service: server.URL, http: newHTTP(), now: func() time.Time { return now }}
		in := said{Survey: "a.b[0]", Count: 1<<62 + 1, Late: "more", ByName: map[string]part{"x": {"n", 1<<60 + 3}, "y": {}}}
		for range rapid.IntRange(0, 3).Draw(rt, "parts") {
			in.Parts = append(in.Parts, part{"n", 1<<61 + 1})
		}
		require.NoError(rt, l.call(context.Background(), http.MethodPost, "/x", in, nil))
		want := in
		has := func(name string) bool { return slices.Contains(of.unknown, name) }
		if has("late") {
			want.Late = ""
		}
		want.Parts = slices.Clone(in.Parts)
		for i := range want.Parts {
			if has("parts.new") {
				want.Parts[i].New = ""
			}
		}
		if has("parts") {
			want.Parts = nil
		}
		if has("by_name.x.new") {
			want.ByName = map[string]part{"x": {"", 1<<60 + 3}, "y": {}}
		}
		if has("by_name") {
			want.ByName = nil
		}
		var got said
		require.NoError(rt, json.Unmarshal([]byte(of.taken), &got))
		require.Equal(rt, want, got)

		before := of.calls
		require.NoError(rt, l.call(context.Background(), http.MethodPost, "/x", in, nil))
		require.Equal(rt, before+1, of.calls, "it is asked again what it does not know")
		of.unknown, now = nil, now.Add(leftOutFor+time.Minute) // it is brought up to date
		require.NoError(rt, l.call(context.Background(), http.MethodPost, "/x", in, nil))
		require.NoError(rt, json.Unmarshal([]byte(of.taken), &got))
		require.Equal(rt, in, got)
	})
}

// What is refused for another reason is refused, and a service that refuses ever more is not asked for ever.
func TestAnotherRefusalIsNoMatterOfAge(t *testing.T) {
	calls := 0
	answer := ""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		calls++
		w.WriteHeader(http.StatusUnprocessableEntity)
		fmt.Fprint(w, strings.ReplaceAll(answer, "NUMBER", fmt.Sprint(calls)))
	}))
	defer server.Close()
	l := &link{service: server.URL, http: newHTTP(), now: time.Now}
	for _, x := range []struct {
		answer string
		calls  int
	}{
		{`{"detail":"no"}`, 1},
		{`{"detail":"no","errors":[{"message":"expected string","location":"body.survey"}]}`, 1},
		{`{"detail":"no","errors":[{"message":"unexpected property","location":"body.a"},{"message":"too long","location":"body.b"}]}`, 1},
		{`{"detail":"no","errors":[{"message":"unexpected property","location":"query.a"}]}`, 1},
		{`{"detail":"no","errors":[{"message":"unexpected property","location":"body.aNUMBER"}]}`, mostUnknown + 1},
	} {
		calls, answer = 0, x.answer
		require.ErrorContains(t, l.call(context.Background(), http.MethodPost, "/x", map[string]int{"a": 1}, nil), "no")
		require.Equal(t, x.calls, calls, x.answer)
	}
}

package ground

import (
	"time"

	"patientlantern.example/lantern/service/fleet"
)

// News is what changed on a host: findings that came, by class, and how many went.
type News struct {
	Came     []NewsItem `json:"came,omitempty"`
	More     int        `json:"more,omitempty"` // that came beside those that are named
	Went     int        `json:"went,omitempty"`
	Stood    []int64    `json:"stood,omitempty"` // seconds for which some of those that went had been known
	Revision int64      `json:"revision,omitempty"`
}

// NewsItem is a finding that came.
type NewsItem struct {
	Class    string `json:"class"`
	Severity string `json:"severity"`
	File     string `json:"file,omitempty"`
}

// mostNews bounds how many findings one entry names.
const mostNews = 50

func newsOf(old, v *fleet.View, now time.Time) *News {
	var out News
	for i, f := range v.Findings {
		if _, before := old.Since.Of(v.Keys[i]); before {
			continue
		}
		if len(out.Came) < mostNews {
			out.Came = append(out.Came, NewsItem{f.Class, f.Severity, f.File})
		} else {
			out.More++
		}
	}
	for _, k := range old.Keys {
		if _, still := v.Since.Of(k); !still {
			out.Went++
			if since, known := old.Since.Of(k); known && len(out.Stood) < mostNews {
				out.Stood = append(out.Stood, max(0, int64(now.Sub(since)/time.Second)))
			}
		}
	}
	if v.Revision != old.Revision {
		out.Revision = v.Revision
	}
	if len(out.Came) == 0 && out.Went == 0 && out.Revision == 0 {
		return nil
	}
	return &out
}

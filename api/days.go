package api

import (
	"time"

	"patientlantern.example/lantern/core/between"
)

// Day is how the fleet stood on a day.
type Day struct {
	Day      string     `json:"day" doc:"In UTC, as 2006-01-02"`
	Counted  *time.Time `json:"counted,omitempty" doc:"When it was counted last; absent: the service did not run, and nothing is known"`
	Standing *Standing  `json:"standing,omitempty" doc:"As it was then"`
	Arisen   int        `json:"arisen" doc:"Findings that came that day"`
	Closed   int        `json:"closed" doc:"Findings that were gone that day because the host was right again"`
	Within   *int64     `json:"within,omitempty" doc:"Seconds from found to gone for half of the closed; absent: none was closed"`
}

// DayPage is one page of days, the newest first.
type DayPage struct {
	Days  []Day `json:"items"`
	Total int   `json:"total"`
	Next  int   `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
}

// BetweenPage is one page of what differs on a host between two moments.
type BetweenPage struct {
	Host         string          `json:"host"`
	From         time.Time       `json:"from" doc:"The earlier moment"`
	FromSince    time.Time       `json:"from_since" doc:"Since when it was so then, as far as the host has said"`
	FromRevision int64           `json:"from_revision" doc:"That had been carried then; 0: none"`
	To           time.Time       `json:"to" doc:"The later moment"`
	ToSince      time.Time       `json:"to_since"`
	ToRevision   int64           `json:"to_revision"`
	Items        []between.Piece `json:"items"`
	Total        int             `json:"total"`
	Next         int             `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
}

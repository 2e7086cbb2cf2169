package fleet

import (
	"fmt"
	"time"
)

// sinceWords is a moment of the past, with its day where that is another.
func sinceWords(at, now time.Time) string {
	if now.Sub(at) < 20*time.Hour {
		return at.Format("15:04:05 MST")
	}
	return at.Format("2006-01-02 15:04 MST")
}

// About is a time in words, no finer than it can be guessed.
func About(d time.Duration) string {
	switch {
	case d < time.Minute:
		return "less than a minute"
	case d < 2*time.Hour:
		return fmt.Sprintf("about %d min", int(d.Round(time.Minute).Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("about %d h", int(d.Round(time.Hour).Hours()))
	}
	return fmt.Sprintf("about %d days", int((d+12*time.Hour).Hours())/24)
}

// Zone is a time zone by its name; UTC where a host has not said, or where it is not known.
func Zone(name string) *time.Location {
	if name == "" || name == "Local" {
		return time.UTC
	}
	if loc, err := time.LoadLocation(name); err == nil {
		return loc
	}
	return time.UTC
}

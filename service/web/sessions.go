package web

import (
	"context"
	"net/http"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/answer"
	"patientlantern.example/lantern/service/identity"
)

const cookieName = "lantern-session"

type signInIn struct {
	Proto string `header:"X-Forwarded-Proto" hidden:"true"`
	Body  api.SignIn
}

type sessionOut struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      api.Session
}

func (w *Web) signIn(ctx context.Context, in *signInIn) (*sessionOut, error) {
	secret, session, err := w.service.SignIn(ctx, in.Body.Token)
	if err != nil {
		return nil, answer.Told(w.log, err)
	}
	return &sessionOut{
		SetCookie: http.Cookie{
			Name:     cookieName,
			Value:    secret,
			Path:     "/",
			HttpOnly: true,
			SameSite: http.SameSiteStrictMode,
			Secure:   in.Proto == "https" || w.opts.TLS,
			MaxAge:   int(identity.SessionLife.Seconds()),
		},
		Body: *session,
	}, nil
}

type signOutIn struct {
	Cookie string `cookie:"lantern-session" hidden:"true"`
}

type signOutOut struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

func (w *Web) signOut(ctx context.Context, in *signOutIn) (*signOutOut, error) {
	if err := w.service.SignOut(ctx, in.Cookie); err != nil {
		return nil, answer.Told(w.log, err)
	}
	return &signOutOut{
		http.Cookie{Name: cookieName, Path: "/", MaxAge: -1, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: w.opts.TLS},
	}, nil
}

// calendarBody is a calendar.
type calendarBody struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

func (w *Web) calendar(ctx context.Context, _ *struct{}) (*calendarBody, error) {
	text, err := w.service.Calendar(ctx)
	if err != nil {
		return nil, answer.Told(w.log, err)
	}
	return &calendarBody{"text/calendar; charset=utf-8", `attachment; filename="patient-lantern.ics"`, text}, nil
}

package api

import "time"

// WebhookOrder asks that an address is told of what happens.
type WebhookOrder struct {
	URL   string   `json:"url" minLength:"8" maxLength:"2000" doc:"https:// or http://, without a login in it"`
	About []string `json:"about,omitempty" doc:"Which of host (findings), rollout, revision, freeze, waiver and seats; all when absent"`
}

// Webhook is an address that is told of what happens: CloudEvents 1.0 in JSON, some at a
// time, signed by HTTP Message Signatures (RFC 9421, hmac-sha256).
type Webhook struct {
	ID      int64      `json:"id"`
	URL     string     `json:"url"`
	About   []string   `json:"about"`
	Author  string     `json:"author"`
	Created time.Time  `json:"created"`
	Secret  string     `json:"secret,omitempty" doc:"The key of the signatures, in base64; told once, when it is added"`
	Waiting bool       `json:"waiting" doc:"There is something that it was not told yet"`
	Failed  int        `json:"failed" doc:"Calls in a row that failed"`
	Error   string     `json:"error,omitempty" doc:"Of the last call"`
	Next    *time.Time `json:"next_try,omitempty" doc:"When it is called again"`
}

// WebhookList lists webhooks.
type WebhookList struct {
	Webhooks []Webhook `json:"items"`
	Total    int       `json:"total"`
}

// WebhookTry is what a test call came to.
type WebhookTry struct {
	Status  int    `json:"status" doc:"Of the answer; 0: there was none"`
	Message string `json:"message,omitempty"`
	Took    int64  `json:"took_ms" doc:"Milliseconds"`
}

package standin

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
)

// Spoil gives a vendor of upstreams that are served at an address a fault, as POST /-/fault does; an empty one takes it away.
func Spoil(ctx context.Context, upstreams, vendor, fault string) error {
	at := upstreams + "/-/fault?" + url.Values{"vendor": {vendor}, "fault": {fault}}.Encode()
	ask, err := http.NewRequestWithContext(ctx, http.MethodPost, at, http.NoBody)
	if err != nil {
		return err
	}
	answer, err := http.DefaultClient.Do(ask)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusNoContent {
		return fmt.Errorf("the vendor %s: %s", vendor, answer.Status)
	}
	return nil
}

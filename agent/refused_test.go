package agent

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestRefusalsOfAllPackageManagersAreKnown(t *testing.T) {
	for _, said := range []string{
		"401  Unauthorized [IP: 127.0.0.1 8080]",
		"403  Forbidden [IP: ::1 80]",
		"401  Wants a login",
		"the server answered 401 Unauthorized",
		"Status code: 401 for http://127.0.0.1:4000/x/repodata/repomd.xml (IP: 127.0.0.1)",
		"Curl error (22): HTTP response code said error for http://h/x [The requested URL returned error: 403]",
		"failed retrieving file 'tide.db' from 127.0.0.1:4001 : The requested URL returned error: 401",
		"Server returned status 401: Unauthorized",
		"Login failed. (https://h.example/x): The requested URL returned error: 401",
		"Permission to access 'http://h.example/x' denied.",
		"Authentication required for 'http://h.example/x'",
	} {
		assert.True(t, refusedLogin(said), said)
	}
}

// What else goes wrong may have those digits in a port, a path, a date, a version or a
// size.
func TestDigitsElsewhereAreNoRefusal(t *testing.T) {
	shapes := []string{
		"Could not connect to 127.0.0.1:%[1]d (127.0.0.1). - connect (111: Connection refused)",
		"404  Not Found [IP: 127.0.0.1 %[1]d]",
		"Release file for http://127.0.0.1:%[1]d/%[2]d/dists/mussel/InRelease is expired (invalid since %[2]dd 4h). Updates for this repository will not be applied.",
		"the server answered 404 Not Found",
		"the server at h.example:%[1]d did not answer",
		"Status code: 404 for http://127.0.0.1:%[1]d/repodata/repomd.xml (IP: 127.0.0.1)",
		"failed retrieving file 'tide-%[2]d.db' from 127.0.0.1:%[1]d : The requested URL returned error: 404",
		"File has unexpected size (%[1]d != %[2]d). Mirror sync in progress?",
		"Get \"http://127.0.0.1:%[1]d/%[2]d\": dial tcp 127.0.0.1:%[1]d: connect: connection refused",
		"/srv/mirror/%[2]d/Release cannot be read",
		"the metadata of %[2]d-03-401 is too old",
	}
	rapid.Check(t, func(t *rapid.T) {
		number := rapid.SampledFrom([]int{401, 403, 4010, 40101, 40393, 14031, 24031, 20401, 40300})
		said := fmt.Sprintf(rapid.SampledFrom(shapes).Draw(t, "shape"), number.Draw(t, "port"), number.Draw(t, "other"))
		if refusedLogin(said) {
			t.Fatalf("taken for a refusal: %s", said)
		}
	})
}

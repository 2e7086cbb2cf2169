package agent

import (
	"fmt"
	"os"
	"slices"
	"syscall"

	"golang.org/x/sys/unix"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// Machine is what the running machine tells about itself.
func (h *Host) Machine() survey.Machine {
	m := survey.Machine{Free: h.free, Now: h.now()}
	if h.Root == "/" { // of another root nobody knows on what it runs
		m.CPUInfo, _ = os.ReadFile("/proc/cpuinfo") // where it is missing, the level is 0
		var u unix.Utsname
		if unix.Uname(&u) == nil {
			m.Arch = unix.ByteSliceToString(u.Machine[:])
		}
	}
	return m
}

// free returns the free bytes of the file system that holds a path of the root.
func (h *Host) free(inside string) (int64, error) {
	p, err := h.path(inside)
	if err != nil {
		return 0, err
	}
	var st syscall.Statfs_t
	if err := syscall.Statfs(p, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * int64(st.Bsize), nil
}

// Read reads what is configured on the host, for whoever goes on with nothing else: what
// another program says later may hold secrets that are not known then.
func (h *Host) Read() survey.Result { return survey.Read(h.fs, h.Machine()) }

// Survey reads what is configured on the host, and remembers its secrets so that they can
// be hidden in what programs say.
func (h *Host) Survey() survey.Result {
	r := h.Read()
	h.learnSecrets(&r)
	h.markMade(&r.Survey)
	return r
}

// look is a survey, ready to be sent.
type look struct {
	result    survey.Result
	masked    map[string][]byte
	traits    []byte
	survey    []byte
	traitsID  string
	surveyID  string
	documents []api.Document
	access    api.HostAccess // what is particular to this host
	accessID  []byte
}

// look surveys the host and splits the survey into documents that hosts share:
// what is particular to this one machine is left out of both.
func (h *Host) look() (*look, error) {
	l := &look{result: h.Survey()}
	if sheet := h.lastSheet(); sheet != nil {
		h.addUnread(sheet, &l.result)
		l.result.Survey.Media = h.attached(sheet)
	}
	l.masked = l.result.Masked()
	releases, beyond := deb.ReadReleases(h.fs, l.result.Survey.Sources)
	if l.result.Survey.Releases = releases; beyond > 0 {
		l.result.Survey.Problems = append(l.result.Survey.Problems, source.Problem{Family: deb.Family, File: deb.ListsDir, Message: fmt.Sprintf(
			"the Release files of %d more suites were not looked at: what apt has fetched of them is not known", beyond)})
	}
	traits := l.result.Survey.Traits
	traits.Free = nil
	shared := l.result.Survey
	shared.Traits = source.Traits{
		OS:            traits.OS,
		Family:        traits.Family,
		Arch:          traits.Arch,
		Architectures: traits.Architectures,
		Tools:         map[string]string{},
	}
	l.access = api.HostAccess{Files: h.accessFiles(), Others: shared.Access}
	shared.Access = slices.Clone(shared.Access)
	for i := range shared.Access { // a certificate's name and end are one host's own
		shared.Access[i].Identity, shared.Access[i].Expires = "", nil
	}
	var err error
	if l.accessID, err = source.Canonical(l.access); err != nil {
		return nil, err
	}
	if l.traits, err = source.Canonical(traits); err != nil {
		return nil, err
	}
	if l.survey, err = source.Canonical(shared); err != nil {
		return nil, err
	}
	l.traitsID, l.surveyID = source.Digest(l.traits), source.Digest(l.survey)
	for _, f := range shared.Files {
		l.documents = append(l.documents, api.Document{Kind: "text", Body: l.masked[f.Path]})
	}
	l.documents = append(l.documents, api.Document{Kind: "traits", Body: l.traits}, api.Document{Kind: "survey", Body: l.survey})
	return l, nil
}

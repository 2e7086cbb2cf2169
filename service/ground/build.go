package ground

import (
	"crypto/sha256"
	"debug/elf"
	"encoding/hex"
	"io"
	"os"
	"sync"
)

// thisBuild names this very build of the program: what another one worked out is not
// taken for what this one would. It is empty where that cannot be told.
var thisBuild = sync.OnceValue(func() string {
	name, err := os.Executable()
	if err != nil {
		return ""
	}
	sum := sha256.New()
	if note, err := buildNote(name); err == nil && len(note) > 0 {
		sum.Write(note)
		return hex.EncodeToString(sum.Sum(nil))
	}
	f, err := os.Open(name)
	if err != nil {
		return ""
	}
	defer f.Close()
	if _, err := io.Copy(sum, f); err != nil {
		return ""
	}
	return hex.EncodeToString(sum.Sum(nil))
})

// buildNote is what the linker notes of all that went into the program
// (https://pkg.go.dev/cmd/internal/buildid).
func buildNote(name string) ([]byte, error) {
	f, err := elf.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if s := f.Section(".note.go.buildid"); s != nil {
		return s.Data()
	}
	return nil, nil
}

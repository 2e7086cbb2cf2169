package choice_test

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/choice"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/standin"
)

func BenchmarkAfter(b *testing.B) {
	keys, err := standin.Keys()
	require.NoError(b, err)
	root := b.TempDir()
	require.NoError(b, standin.Fleet()[0].Write(root, "http://127.0.0.1:7801", keys))
	dir, err := os.OpenRoot(root)
	require.NoError(b, err)
	defer dir.Close()
	r := survey.Read(rootfs.New(dir.FS()), survey.Machine{Arch: "x86_64", Now: time.Now()})
	edited := map[string][]byte{"/etc/apt/sources.list.d/more.list": []byte("deb http://127.0.0.1:7801/x stable main\n")}
	for b.Loop() {
		if _, ok := choice.After(&r.Survey, r.Texts, edited); !ok {
			b.Fatal("it cannot be told")
		}
	}
}

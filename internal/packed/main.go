// Command packed writes beside each file of the built console what it is in zstd, so that the
// service packs nothing. What brotli makes of it is written by the console's own build.
package main

import (
	"io/fs"
	"log"
	"os"
	"path/filepath"
	"slices"

	"github.com/klauspost/compress/zstd"
)

// least is the size below which packing does not pay, in bytes.
const least = 1024

func main() {
	log.SetFlags(0)
	if len(os.Args) != 2 {
		log.Fatal("usage: packed FOLDER")
	}
	if err := filepath.WalkDir(os.Args[1], pack); err != nil {
		log.Fatal("packed: ", err)
	}
}

func pack(path string, d fs.DirEntry, err error) error {
	if err != nil || d.IsDir() || !slices.Contains([]string{".js", ".css", ".html", ".svg"}, filepath.Ext(path)) {
		return err
	}
	plain, err := os.ReadFile(path)
	if err != nil || len(plain) < least {
		return err
	}
	w, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBestCompression))
	if err != nil {
		return err
	}
	defer w.Close()
	return os.WriteFile(path+".zst", w.EncodeAll(plain, nil), 0o644)
}

package trace

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"sort"
	"strings"
	"time"

	"patientlantern.example/lantern/core/rootfs"
)

// The journal of systemd, as its documentation of the file format has it
// (systemd.io/JOURNAL_FILE_FORMAT): a header, and objects that name each other by their place in
// the file. Entries of sudo are found by way of the field _COMM, which journald sets itself;
// what a program says of itself (SYSLOG_IDENTIFIER) anybody can say.

// Where journals stand: those that are kept, and those of this start of the machine.
var journalDirs = []string{"/var/log/journal", "/run/log/journal"}

// What is read of journals at most.
const (
	mostJournals = 8       // files, the newest first
	mostLogins   = 4096    // entries of sudo of one file, the newest first
	mostObject   = 1 << 16 // bytes of one object; a line of sudo is far shorter
	mostHops     = 1 << 16 // objects of one file that are looked at
)

// Flags of a file that change its form. Others say how objects are packed, which each says itself.
const (
	journalKnown   = 1 | 2 | 4 | 8 | journalCompact
	journalCompact = 16
)

// Kinds of objects.
const (
	objectData  = 1
	objectField = 2
	objectEntry = 3
	objectArray = 6
)

// Sizes of the fixed parts of objects, in bytes.
const (
	headSize  = 16
	fieldSize = 40
	dataSize  = 64
	entrySize = 64
	arraySize = 24
)

var errJournal = errors.New("it is no journal that can be read")

// journal is a file of the journal.
type journal struct {
	in      io.ReaderAt
	size    int64
	compact bool
	hops    int
	fields  [2]uint64 // place and size of the table of fields
}

var le = binary.LittleEndian

func openJournal(in io.ReaderAt, size int64) (*journal, error) {
	var head [208]byte
	if _, err := in.ReadAt(head[:], 0); err != nil {
		return nil, errJournal
	}
	flags := le.Uint32(head[12:])
	if string(head[:8]) != "LPKSHHRH" || flags&^uint32(journalKnown) != 0 {
		return nil, errJournal
	}
	return &journal{
		in: in, size: size, compact: flags&journalCompact != 0, fields: [2]uint64{le.Uint64(head[120:]), le.Uint64(head[128:])},
	}, nil
}

// object reads an object of a kind, or its beginning where it is long.
func (j *journal) object(at uint64, kind byte, least int) ([]byte, error) {
	if j.hops++; j.hops > mostHops || at == 0 || at%8 != 0 || at > uint64(j.size) {
		return nil, errJournal
	}
	var head [headSize]byte
	if _, err := j.in.ReadAt(head[:], int64(at)); err != nil {
		return nil, errJournal
	}
	size := le.Uint64(head[8:])
	if head[0] != kind || size < uint64(least) || size > uint64(j.size) {
		return nil, errJournal
	}
	out := make([]byte, min(size, mostObject))
	if _, err := j.in.ReadAt(out, int64(at)); err != nil {
		return nil, errJournal
	}
	return out, nil
}

// payload is what a data object says; nothing where it is packed.
func (j *journal) payload(data []byte) []byte {
	from := dataSize
	if j.compact {
		from += 8
	}
	if data[1] != 0 || len(data) < from {
		return nil
	}
	return data[from:]
}

// field is the first data object of a field; 0 where no entry has it.
func (j *journal) field(name string) (uint64, error) {
	const bucket, mostBuckets = 16, 1 << 13
	at, size := j.fields[0], j.fields[1]
	if size/bucket > mostBuckets || at > uint64(j.size) || size > uint64(j.size) {
		return 0, errJournal
	}
	table := make([]byte, size)
	if _, err := j.in.ReadAt(table, int64(at)); err != nil {
		return 0, errJournal
	}
	for ; len(table) >= bucket; table = table[bucket:] {
		for next := le.Uint64(table); next != 0; {
			o, err := j.object(next, objectField, fieldSize)
			if err != nil {
				return 0, err
			}
			if string(o[fieldSize:]) == name {
				return le.Uint64(o[32:]), nil
			}
			next = le.Uint64(o[24:])
		}
	}
	return 0, nil
}

// entries are the places of the entries that have a field of a value, the newest last.
func (j *journal) entries(field, value string) ([]uint64, error) {
	next, err := j.field(field)
	for err == nil && next != 0 {
		var o []byte
		if o, err = j.object(next, objectData, dataSize); err != nil {
			break
		}
		if string(j.payload(o)) == field+"="+value {
			return j.chain(le.Uint64(o[40:]), le.Uint64(o[48:]), le.Uint64(o[56:]))
		}
		next = le.Uint64(o[32:])
	}
	return nil, err
}

// chain reads the list of a data object's entries: the first, and arrays of the others.
func (j *journal) chain(first, array, count uint64) (out []uint64, err error) {
	if first != 0 {
		out = append(out, first)
	}
	width := uint64(8)
	if j.compact {
		width = 4
	}
	for left := count; array != 0 && left > 1; {
		o, err := j.object(array, objectArray, arraySize)
		if err != nil {
			return out, err
		}
		holds := min((le.Uint64(o[8:])-arraySize)/width, left-1)
		for i := holds - min(holds, mostLogins); i < holds; i++ { // the newest of it
			var b [8]byte
			if _, err := j.in.ReadAt(b[:width], int64(array+arraySize+i*width)); err != nil {
				return out, errJournal
			}
			out = append(out, le.Uint64(b[:]))
		}
		if len(out) > mostLogins {
			out = slices.Clone(out[len(out)-mostLogins:])
		}
		left -= holds
		array = le.Uint64(o[16:])
	}
	return out, nil
}

// when an entry was written; o is the entry.
func when(o []byte) time.Time { return time.UnixMicro(int64(le.Uint64(o[24:]))) }

// said are an entry's fields of some names.
func (j *journal) said(o []byte, names ...string) (map[string]string, error) {
	out := map[string]string{}
	for items := o[entrySize:]; ; {
		var data uint64
		switch {
		case j.compact && len(items) >= 4:
			data, items = uint64(le.Uint32(items)), items[4:]
		case !j.compact && len(items) >= 16:
			data, items = le.Uint64(items), items[16:]
		default:
			return out, nil
		}
		if data == 0 {
			continue
		}
		d, err := j.object(data, objectData, dataSize)
		if err != nil {
			return out, err
		}
		name, value, is := bytes.Cut(j.payload(d), []byte("="))
		if is && slices.Contains(names, string(name)) {
			out[string(name)] = string(value)
		}
	}
}

// logins are those that the file tells of since a time, the newest first: of a long file the
// older ones are of no weight, and not looked at.
func (j *journal) logins(since time.Time) (out []Login, err error) {
	list, err := j.entries("_COMM", "sudo")
	if err != nil {
		return nil, err
	}
	for _, at := range slices.Backward(list) {
		o, err := j.object(at, objectEntry, entrySize)
		if err != nil || when(o).Before(since) {
			return out, err
		}
		said, err := j.said(o, "MESSAGE", "_UID", "_EXE")
		if err != nil {
			return out, err
		}
		if l, ok := usedSudo(said["MESSAGE"]); ok && isSudo(said["_EXE"], said["_UID"]) {
			l.At = when(o)
			out = append(out, l)
		}
	}
	return out, nil
}

// isSudo reports whether journald says that a program is sudo: by where it stands, since anybody
// can give a program that name, or where that is not told, by whose it is. Where a system has more than one sudo to choose from, each
// stands elsewhere below /usr, where only root puts files.
func isSudo(exe, uid string) bool {
	if exe == "" {
		return uid == "0"
	}
	return exe == "/bin/sudo" || path.Base(exe) == "sudo" && strings.HasPrefix(exe, "/usr/") && !strings.HasPrefix(exe, "/usr/local/")
}

// journaled reads who used sudo since a time from the journals of a host; none where there are none.
func journaled(root *rootfs.FS, since time.Time) (out []Login, read bool) {
	for _, name := range journals(root) {
		f, err := root.Open(name)
		if err != nil {
			continue
		}
		info, err := f.Stat()
		in, random := f.(io.ReaderAt)
		if err == nil && random {
			var j *journal
			if j, err = openJournal(in, info.Size()); err == nil {
				var some []Login
				some, err = j.logins(since)
				out = append(out, some...)
				read = read || err == nil
			}
		}
		f.Close()
	}
	return out, read
}

// journals are the files of a host's journal, the newest of them, those of people among them:
// journald gives one that is full a name of its own and begins another.
func journals(root *rootfs.FS) []string {
	type file struct {
		name string
		at   time.Time
	}
	var all []file
	for _, dir := range journalDirs {
		machines, err := root.ReadDir(dir)
		if err != nil {
			continue
		}
		for _, m := range machines {
			list, err := root.ReadDir(path.Join(dir, m.Name()))
			if err != nil {
				continue
			}
			for _, e := range list {
				if !strings.HasSuffix(e.Name(), ".journal") { // else it was given up as damaged
					continue
				}
				name := path.Join(dir, m.Name(), e.Name())
				if info, err := root.Stat(name); err == nil && info.Mode()&fs.ModeType == 0 {
					all = append(all, file{name, info.ModTime()})
				}
			}
		}
	}
	sort.SliceStable(all, func(i, j int) bool { return all[i].at.After(all[j].at) })
	var out []string
	for _, f := range all[:min(len(all), mostJournals)] {
		out = append(out, f.name)
	}
	return out
}

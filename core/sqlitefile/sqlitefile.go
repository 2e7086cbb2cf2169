// Package sqlitefile reads tables of an SQLite 3 database without the library:
// the file and its write-ahead log as they stand, nothing locked and nothing
// written.
//
// The format is that of https://www.sqlite.org/fileformat2.html.
package sqlitefile

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
)

// ErrFormat is returned for bytes that are no sound SQLite 3 database.
var ErrFormat = errors.New("not a sound SQLite 3 database")

const (
	maxRecord = 64 << 20 // bytes of one record; no package's header comes near it
	maxDepth  = 20       // of a tree of pages
	cached    = 64
)

// DB is an open database. It is not safe for use by several goroutines.
type DB struct {
	file   io.ReaderAt
	size   int               // of a page, in bytes
	usable int               // of it
	log    io.ReaderAt       // the write-ahead log; nil without one
	newer  map[uint32]int64  // page → where its newest content stands in the log
	cache  map[uint32][]byte // a few pages
	pages  int               // that the database has
	budget int               // nodes that the question at hand may still visit: a sound tree has each page once
}

// Open reads the header of a database and the index of its write-ahead log,
// which may be nil.
func Open(file, log io.ReaderAt) (*DB, error) {
	head := make([]byte, 100)
	if _, err := file.ReadAt(head, 0); err != nil {
		return nil, fmt.Errorf("%w: it has no header", ErrFormat)
	}
	if !bytes.HasPrefix(head, []byte("SQLite format 3\x00")) {
		return nil, fmt.Errorf("%w: it begins differently", ErrFormat)
	}
	db := &DB{file: file, cache: map[uint32][]byte{}}
	db.size = int(binary.BigEndian.Uint16(head[16:]))
	if db.size == 1 {
		db.size = 65536
	}
	db.usable = db.size - int(head[20])
	if db.size < 512 || db.size&(db.size-1) != 0 || db.usable < 480 {
		return nil, fmt.Errorf("%w: pages of %d bytes", ErrFormat, db.size)
	}
	if db.pages = int(binary.BigEndian.Uint32(head[28:])); db.pages == 0 {
		db.pages = 1 << 20 // written by a version that kept no count
	}
	if log != nil {
		db.openLog(log)
	}
	return db, nil
}

// openLog finds the newest committed content of each page. A frame whose
// checksum or salt is wrong ends the log, as it does for SQLite.
func (db *DB) openLog(log io.ReaderAt) {
	head := make([]byte, 32)
	if _, err := log.ReadAt(head, 0); err != nil {
		return
	}
	var order binary.ByteOrder = binary.LittleEndian
	switch binary.BigEndian.Uint32(head) {
	case 0x377f0682:
	case 0x377f0683:
		order = binary.BigEndian
	default:
		return
	}
	s0, s1 := checksum(order, head[:24], 0, 0)
	if int(binary.BigEndian.Uint32(head[8:])) != db.size || s0 != binary.BigEndian.Uint32(head[24:]) ||
		s1 != binary.BigEndian.Uint32(head[28:]) {
		return
	}
	newer, open := map[uint32]int64{}, map[uint32]int64{}
	frame := make([]byte, 24+db.size)
	for at := int64(32); ; at += int64(len(frame)) {
		if _, err := log.ReadAt(frame, at); err != nil || !bytes.Equal(frame[8:16], head[16:24]) {
			break
		}
		s0, s1 = checksum(order, frame[:8], s0, s1)
		s0, s1 = checksum(order, frame[24:], s0, s1)
		if s0 != binary.BigEndian.Uint32(frame[16:]) || s1 != binary.BigEndian.Uint32(frame[20:]) {
			break
		}
		open[binary.BigEndian.Uint32(frame)] = at + 24
		if pages := binary.BigEndian.Uint32(frame[4:]); pages != 0 { // a commit
			db.pages = int(pages)
			for page, place := range open {
				newer[page] = place
			}
			clear(open)
		}
	}
	db.log, db.newer = log, newer
}

func checksum(order binary.ByteOrder, b []byte, s0, s1 uint32) (uint32, uint32) {
	for i := 0; i+8 <= len(b); i += 8 {
		s0 += order.Uint32(b[i:]) + s1
		s1 += order.Uint32(b[i+4:]) + s0
	}
	return s0, s1
}

func (db *DB) page(n uint32) ([]byte, error) {
	if p, ok := db.cache[n]; ok {
		return p, nil
	}
	if n == 0 {
		return nil, fmt.Errorf("%w: page 0 is referred to", ErrFormat)
	}
	p := make([]byte, db.size)
	from, at := db.file, int64(n-1)*int64(db.size)
	if place, ok := db.newer[n]; ok {
		from, at = db.log, place
	}
	if _, err := from.ReadAt(p, at); err != nil {
		return nil, fmt.Errorf("%w: page %d cannot be read: %v", ErrFormat, n, err)
	}
	if len(db.cache) >= cached {
		clear(db.cache)
	}
	db.cache[n] = p
	return p, nil
}

// node is one page of a tree.
type node struct {
	data  []byte
	start int // of its header
	kind  byte
	cells int
	right uint32
	first int // of the pointers to cells
}

const (
	interiorIndex = 2
	interiorTable = 5
	leafIndex     = 10
	leafTable     = 13
)

func (db *DB) node(n uint32) (node, error) {
	if db.budget--; db.budget < 0 {
		return node{}, fmt.Errorf("%w: a page stands in a tree twice", ErrFormat)
	}
	p, err := db.page(n)
	if err != nil {
		return node{}, err
	}
	b := node{data: p}
	if n == 1 {
		b.start = 100
	}
	b.kind = p[b.start]
	b.cells = int(binary.BigEndian.Uint16(p[b.start+3:]))
	b.first = b.start + 8
	switch b.kind {
	case interiorIndex, interiorTable:
		b.right = binary.BigEndian.Uint32(p[b.start+8:])
		b.first += 4
	case leafIndex, leafTable:
	default:
		return node{}, fmt.Errorf("%w: page %d is of kind %d", ErrFormat, n, b.kind)
	}
	if b.first+2*b.cells > db.usable {
		return node{}, fmt.Errorf("%w: page %d holds %d cells", ErrFormat, n, b.cells)
	}
	return b, nil
}

// cell returns what stands from a cell's start to the end of the page.
func (b *node) cell(i int) ([]byte, error) {
	at := int(binary.BigEndian.Uint16(b.data[b.first+2*i:]))
	if at < b.first || at+4 > len(b.data) {
		return nil, fmt.Errorf("%w: a cell stands at %d", ErrFormat, at)
	}
	return b.data[at:], nil
}

// varint reads a number of one to nine bytes.
func varint(b []byte) (uint64, int) {
	var n uint64
	for i := 0; i < 9 && i < len(b); i++ {
		if i == 8 {
			return n<<8 | uint64(b[i]), 9
		}
		n = n<<7 | uint64(b[i]&0x7f)
		if b[i] < 0x80 {
			return n, i + 1
		}
	}
	return 0, 0
}

// payload returns the bytes of a record that begins at b, those on overflow
// pages too.
func (db *DB) payload(b []byte, size uint64, table bool) ([]byte, error) {
	if size > maxRecord {
		return nil, fmt.Errorf("%w: a record of %d bytes", ErrFormat, size)
	}
	u := db.usable
	most := u - 35
	if !table {
		most = (u-12)*64/255 - 23
	}
	n := int(size)
	if n <= most {
		if n > len(b) {
			return nil, fmt.Errorf("%w: a record leaves its page", ErrFormat)
		}
		return b[:n], nil
	}
	least := (u-12)*32/255 - 23
	here := least + (n-least)%(u-4)
	if here > most {
		here = least
	}
	if here+4 > len(b) {
		return nil, fmt.Errorf("%w: a record leaves its page", ErrFormat)
	}
	out := append(make([]byte, 0, min(n, 1<<20)), b[:here]...)
	for next := binary.BigEndian.Uint32(b[here:]); len(out) < n; {
		p, err := db.page(next)
		if err != nil {
			return nil, err
		}
		next = binary.BigEndian.Uint32(p)
		out = append(out, p[4:4+min(u-4, n-len(out))]...)
	}
	return out, nil
}

// Value is nil, an int64, a float64, a string or a []byte.
type Value any

// record takes a record apart into its columns.
func record(b []byte) ([]Value, error) {
	bad := fmt.Errorf("%w: a record is damaged", ErrFormat)
	size, n := varint(b)
	if n == 0 || size > uint64(len(b)) || size < uint64(n) {
		return nil, bad
	}
	types, body := b[n:size], b[size:]
	var out []Value
	for len(types) > 0 {
		kind, n := varint(types)
		if n == 0 {
			return nil, bad
		}
		types = types[n:]
		width, integer := 0, false
		switch {
		case kind == 0, kind == 8, kind == 9:
		case kind <= 4:
			width, integer = int(kind), true
		case kind == 5:
			width, integer = 6, true
		case kind == 6:
			width, integer = 8, true
		case kind == 7:
			width = 8
		case kind >= 12:
			if kind > 2*maxRecord {
				return nil, bad
			}
			width = int(kind-12) / 2
		default:
			return nil, bad
		}
		if width > len(body) {
			return nil, bad
		}
		part := body[:width]
		body = body[width:]
		switch {
		case integer:
			v := int64(int8(part[0]))
			for _, c := range part[1:] {
				v = v<<8 | int64(c)
			}
			out = append(out, v)
		case kind == 0:
			out = append(out, nil)
		case kind == 7:
			out = append(out, math.Float64frombits(binary.BigEndian.Uint64(part)))
		case kind == 8, kind == 9:
			out = append(out, int64(kind-8))
		case kind%2 == 0:
			out = append(out, part)
		default:
			out = append(out, string(part))
		}
	}
	return out, nil
}

// Roots returns the first page of each table and index, by name.
func (db *DB) Roots() (map[string]uint32, error) {
	roots := map[string]uint32{}
	err := db.Scan(1, func(_ int64, row []Value) bool {
		if len(row) >= 4 {
			name, _ := row[1].(string)
			if root, ok := row[3].(int64); ok && root > 0 && root <= math.MaxUint32 {
				roots[name] = uint32(root)
			}
		}
		return true
	})
	return roots, err
}

// Scan hands every row of a table to visit, in order of the row's number, until
// visit returns false.
func (db *DB) Scan(root uint32, visit func(id int64, row []Value) bool) error {
	db.budget = db.pages
	_, err := db.scan(root, 0, visit)
	return err
}

func (db *DB) scan(n uint32, depth int, visit func(int64, []Value) bool) (bool, error) {
	if depth > maxDepth {
		return false, fmt.Errorf("%w: a tree is too deep", ErrFormat)
	}
	b, err := db.node(n)
	if err != nil {
		return false, err
	}
	for i := range b.cells {
		c, err := b.cell(i)
		if err != nil {
			return false, err
		}
		if b.kind == interiorTable {
			if on, err := db.scan(binary.BigEndian.Uint32(c), depth+1, visit); err != nil || !on {
				return on, err
			}
			continue
		}
		id, row, err := db.row(c)
		if err != nil {
			return false, err
		}
		if !visit(id, row) {
			return false, nil
		}
	}
	if b.kind == interiorTable {
		return db.scan(b.right, depth+1, visit)
	}
	return true, nil
}

// row reads a cell of a table's leaf.
func (db *DB) row(c []byte) (int64, []Value, error) {
	size, n := varint(c)
	id, m := varint(c[n:])
	if n == 0 || m == 0 {
		return 0, nil, fmt.Errorf("%w: a cell is damaged", ErrFormat)
	}
	body, err := db.payload(c[n+m:], size, true)
	if err != nil {
		return 0, nil, err
	}
	row, err := record(body)
	return int64(id), row, err
}

// Row returns the row of a table with a number, or nil.
func (db *DB) Row(root uint32, id int64) ([]Value, error) {
	db.budget = maxDepth
	for range maxDepth {
		b, err := db.node(root)
		if err != nil {
			return nil, err
		}
		next := b.right
		for i := range b.cells {
			c, err := b.cell(i)
			if err != nil {
				return nil, err
			}
			if b.kind == interiorTable {
				if key, n := varint(c[4:]); n > 0 && id <= int64(key) {
					next = binary.BigEndian.Uint32(c)
					break
				}
				continue
			}
			_, n := varint(c)
			if key, m := varint(c[n:]); m > 0 && int64(key) == id {
				_, row, err := db.row(c)
				return row, err
			}
		}
		if b.kind != interiorTable {
			return nil, nil
		}
		root = next
	}
	return nil, fmt.Errorf("%w: a tree is too deep", ErrFormat)
}

// Find returns the numbers of the rows for which an index over one column of
// text holds a key.
func (db *DB) Find(root uint32, key string) ([]int64, error) {
	db.budget = db.pages
	var out []int64
	err := db.find(root, key, 0, &out)
	return out, err
}

func (db *DB) find(n uint32, key string, depth int, out *[]int64) error {
	if depth > maxDepth {
		return fmt.Errorf("%w: a tree is too deep", ErrFormat)
	}
	b, err := db.node(n)
	if err != nil {
		return err
	}
	for i := range b.cells {
		c, err := b.cell(i)
		if err != nil {
			return err
		}
		var child uint32
		if b.kind == interiorIndex {
			child, c = binary.BigEndian.Uint32(c), c[4:]
		}
		size, m := varint(c)
		if m == 0 {
			return fmt.Errorf("%w: a cell is damaged", ErrFormat)
		}
		body, err := db.payload(c[m:], size, false)
		if err != nil {
			return err
		}
		row, err := record(body)
		if err != nil {
			return err
		}
		if len(row) < 2 {
			return fmt.Errorf("%w: an index has %d columns", ErrFormat, len(row))
		}
		have, _ := row[0].(string)
		if have < key {
			continue
		}
		if child != 0 {
			if err := db.find(child, key, depth+1, out); err != nil {
				return err
			}
		}
		if have > key {
			return nil
		}
		if id, ok := row[1].(int64); ok {
			*out = append(*out, id)
		}
	}
	if b.kind == interiorIndex {
		return db.find(b.right, key, depth+1, out)
	}
	return nil
}

package source

import "encoding/binary"

// AppendTexts adds texts, each with its length before it: no other texts come to the same bytes, whatever
// somebody writes into them.
func AppendTexts(to []byte, texts ...string) []byte {
	for _, s := range texts {
		to = append(binary.AppendUvarint(to, uint64(len(s))), s...)
	}
	return to
}

// AppendList adds a list of texts, with how many there are before them.
func AppendList(to []byte, list []string) []byte {
	return AppendTexts(binary.AppendUvarint(to, uint64(len(list))), list...)
}

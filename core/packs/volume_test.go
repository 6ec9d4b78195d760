package packs

import (
	"reflect"
	"testing"
)

func FuzzDirectory(f *testing.F) {
	f.Add(encodeDirectory([]block{{stored: 3, packed: true, pieces: []piece{{size: 2}, {size: 9}}}, {stored: 1, pieces: []piece{{size: 1}}}}), int64(4))
	f.Fuzz(func(t *testing.T, text []byte, length int64) {
		blocks, err := decodeDirectory(text, length+int64(len(VolumeMagic)))
		if err != nil {
			return
		}
		if again, err := decodeDirectory(encodeDirectory(blocks), length+int64(len(VolumeMagic))); err != nil || !reflect.DeepEqual(again, blocks) {
			t.Errorf("%+v became %+v %v", blocks, again, err)
		}
	})
}

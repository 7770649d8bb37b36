package disk

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
)

// Maps lie in their files in sectors, each of which a power cut leaves as it was or as it became: some
// words, then zeros, and CRC-32C of the salt, the sector's number and all before. So what a disk lost or
// changed is not taken for a map.
const (
	sector        = 512
	wordsInSector = 62
	sectorsInPage = page / sector
)

// sealSectors appends sectors from one on, which hold words.
func sealSectors(dst []byte, salt, number uint64, words []uint64) []byte {
	for ; len(words) > 0; number++ {
		at := len(dst)
		n := min(wordsInSector, len(words))
		for _, w := range words[:n] {
			dst = binary.LittleEndian.AppendUint64(dst, w)
		}
		dst = append(dst, make([]byte, sector-8*n)...)
		words = words[n:]
		binary.LittleEndian.PutUint32(dst[at+sector-4:], sectorSum(salt, number, dst[at:at+sector-4]))
	}
	return dst
}

func sectorSum(salt, number uint64, raw []byte) uint32 {
	var head [16]byte
	binary.LittleEndian.PutUint64(head[:], salt)
	binary.LittleEndian.PutUint64(head[8:], number)
	return crc32.Update(crc32.Checksum(head[:], castagnoli), castagnoli, raw)
}

// openSectors reads words from whole sectors, of which the first is number 0.
func openSectors(raw []byte, salt uint64, words []uint64) error {
	for number := uint64(0); len(words) > 0; number++ {
		s := raw[number*sector:][:sector]
		if binary.LittleEndian.Uint32(s[sector-4:]) != sectorSum(salt, number, s[:sector-4]) {
			return fmt.Errorf("%w: sector %d of a file of maps is not what was written", ErrDamaged, number)
		}
		for i := range min(wordsInSector, len(words)) {
			words[i] = binary.LittleEndian.Uint64(s[8*i:])
		}
		words = words[min(wordsInSector, len(words)):]
	}
	return nil
}

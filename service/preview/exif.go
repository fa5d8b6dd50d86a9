package preview

import (
	"bufio"
	"encoding/binary"
	"io"
)

// orientationOf is how a JPEG picture is to be turned, as its EXIF says; 1 is not at all, and
// what is not a JPEG with EXIF is not turned (ITU-T T.81, annex B; CIPA DC-008, section 4.5).
func orientationOf(from io.Reader) int {
	in := bufio.NewReader(from)
	var start [2]byte
	if _, err := io.ReadFull(in, start[:]); err != nil || start != [2]byte{0xff, 0xd8} {
		return 1
	}
	for range 64 { // segments before the picture
		var head [4]byte
		if _, err := io.ReadFull(in, head[:]); err != nil || head[0] != 0xff || head[1] == 0xda {
			return 1
		}
		length := int(binary.BigEndian.Uint16(head[2:])) - 2
		if length < 0 {
			return 1
		}
		segment := make([]byte, length)
		if _, err := io.ReadFull(in, segment); err != nil {
			return 1
		}
		if head[1] == 0xe1 && len(segment) > 14 && string(segment[:6]) == "Exif\x00\x00" {
			return orientationIn(segment[6:])
		}
	}
	return 1
}

// orientationIn reads the orientation of the first directory of a TIFF header.
func orientationIn(tiff []byte) int {
	var order binary.ByteOrder = binary.BigEndian
	switch string(tiff[:2]) {
	case "II":
		order = binary.LittleEndian
	case "MM":
	default:
		return 1
	}
	at := uint64(order.Uint32(tiff[4:]))
	if at+2 > uint64(len(tiff)) {
		return 1
	}
	entries := uint64(order.Uint16(tiff[at:]))
	for i := range entries {
		entry := at + 2 + 12*i
		if entry+12 > uint64(len(tiff)) {
			return 1
		}
		if order.Uint16(tiff[entry:]) == 0x0112 {
			return int(order.Uint16(tiff[entry+8:]))
		}
	}
	return 1
}

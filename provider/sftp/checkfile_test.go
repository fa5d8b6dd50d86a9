package sftp

import (
	"encoding/binary"
	"testing"

	"deftheron/core/store"
)

func TestParseCheck(t *testing.T) {
	reply := func(id uint32, parts ...string) []byte {
		b := binary.BigEndian.AppendUint32(nil, id)
		for _, part := range parts[:len(parts)-1] {
			b = appendString(b, part)
		}
		return append(b, parts[len(parts)-1]...)
	}
	for name, answer := range map[string][]byte{"as the draft has it": reply(7, "check-file", "md5", "sum"),
		"without the extension's name": reply(7, "md5", "sum")} {
		if sum, err := parseCheck(packetExtendedReply, answer, 7, "md5"); err != nil || string(sum) != "sum" {
			t.Errorf("%s: %q, %v", name, sum, err)
		}
	}
	status := func(code uint32) []byte {
		return binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, 7), code)
	}
	for _, c := range []struct {
		kind   byte
		answer []byte
		want   error
	}{
		{packetStatus, status(statusUnsupported), store.ErrUnsupported}, {packetStatus, status(statusFailure), store.ErrRefused},
		{packetExtendedReply, reply(8, "md5", "sum"), store.ErrTryAgain}, {packetExtendedReply, reply(7, "sha1", "sum"), store.ErrUnsupported},
		{packetExtendedReply, []byte{0, 0, 0, 7, 0xFF, 0xFF, 0xFF, 0xFF}, store.ErrUnsupported}, {packetExtendedReply, nil, store.ErrTryAgain},
		{packetStatus, []byte{0, 0, 0, 7}, store.ErrUnsupported},
	} {
		if sum, err := parseCheck(c.kind, c.answer, 7, "md5"); store.KindOf(err) != c.want {
			t.Errorf("%d %v: %q, %v; want %v", c.kind, c.answer, sum, err, c.want)
		}
	}
}

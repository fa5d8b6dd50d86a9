package sftp

import (
	"context"
	"encoding/binary"
	"io"
	"slices"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	"deftheron/core/store"
)

// The packets of SFTP that are needed to ask for a hash.
const (
	packetInit          = 1
	packetVersion       = 2
	packetStatus        = 101
	packetExtended      = 200
	packetExtendedReply = 201
	longestPacket       = 256 << 10
)

// checkNames are the names of hashes in the check-file extension
// (draft-ietf-secsh-filexfer-extensions-00, section 3): those that can verify a
// content.
var checkNames = map[store.HashKind]string{store.MD5: "md5", store.SHA1: "sha1", store.SHA512: "sha512", store.SHA256: "sha256"}

// HashKinds implements fileserver.Hasher.
func (s *server) HashKinds() []store.HashKind { return s.found().hashes }

// Hash implements fileserver.Hasher by check-file-name, on a channel of its own:
// the library has no way to send a request of an extension.
func (s *server) Hash(ctx context.Context, path string, kind store.HashKind) (store.Hash, error) {
	if !slices.Contains(s.HashKinds(), kind) {
		return store.Hash{}, store.Errorf(store.ErrUnsupported, "the server computes no %s", kind)
	}
	var sum []byte
	err := s.pool.do(ctx, func(l *link) error {
		c, err := newChecker(l.ssh)
		if err != nil {
			return wrap(err)
		}
		defer c.close()
		sum, err = c.check(path, checkNames[kind])
		return wrap(err)
	})
	if err == nil && len(sum) != kind.New().Size() {
		err = store.Errorf(store.ErrUnsupported, "the server answered with a %s of %d bytes", kind, len(sum))
	}
	if err != nil {
		return store.Hash{}, err
	}
	return store.HashOf(kind, sum), nil
}

// checks reports whether a server that does not say so knows check-file all the
// same, as ProFTPD does: asked for the hash of a folder, it refuses that, rather
// than the question. OpenSSH has no such thing, and is not asked.
func checks(client *ssh.Client, folder string) bool {
	if strings.Contains(string(client.ServerVersion()), "OpenSSH") {
		return false
	}
	c, err := newChecker(client)
	if err != nil {
		return false
	}
	defer c.close()
	_, err = c.check(folder, checkNames[store.MD5])
	return store.KindOf(err) == store.ErrRefused
}

// checker is an SFTP session that asks for hashes alone.
type checker struct {
	session *ssh.Session
	in      io.WriteCloser
	out     io.Reader
	next    uint32
	once    sync.Once
}

func newChecker(client *ssh.Client) (*checker, error) {
	session, err := client.NewSession()
	if err != nil {
		return nil, err
	}
	c := &checker{session: session}
	if c.in, err = session.StdinPipe(); err == nil {
		c.out, err = session.StdoutPipe()
	}
	if err == nil {
		err = session.RequestSubsystem("sftp")
	}
	if err == nil {
		err = c.send(packetInit, binary.BigEndian.AppendUint32(nil, 3))
	}
	if err == nil {
		var kind byte
		if kind, _, err = c.receive(); err == nil && kind != packetVersion {
			err = store.Errorf(store.ErrUnsupported, "the server did not begin SFTP a second time")
		}
	}
	if err != nil {
		c.close()
		return nil, err
	}
	return c, nil
}

func (c *checker) close() { c.once.Do(func() { c.session.Close() }) }

func (c *checker) send(kind byte, body []byte) error {
	packet := binary.BigEndian.AppendUint32(nil, uint32(len(body)+1))
	packet = append(append(packet, kind), body...)
	_, err := c.in.Write(packet)
	return err
}

func (c *checker) receive() (kind byte, body []byte, err error) {
	var length [4]byte
	if _, err := io.ReadFull(c.out, length[:]); err != nil {
		return 0, nil, errLost
	}
	size := binary.BigEndian.Uint32(length[:])
	if size == 0 || size > longestPacket {
		return 0, nil, store.Errorf(store.ErrTryAgain, "the server sent a packet of %d bytes", size)
	}
	body = make([]byte, size)
	if _, err := io.ReadFull(c.out, body); err != nil {
		return 0, nil, errLost
	}
	return body[0], body[1:], nil
}

func appendString(b []byte, s string) []byte {
	return append(binary.BigEndian.AppendUint32(b, uint32(len(s))), s...)
}

// check asks for the hash of a whole file.
func (c *checker) check(path, algorithm string) ([]byte, error) {
	c.next++
	body := binary.BigEndian.AppendUint32(nil, c.next)
	body = appendString(body, "check-file-name")
	body = appendString(body, path)
	body = appendString(body, algorithm)
	body = binary.BigEndian.AppendUint64(body, 0) // from the first byte
	body = binary.BigEndian.AppendUint64(body, 0) // to the end
	body = binary.BigEndian.AppendUint32(body, 0) // in one block
	if err := c.send(packetExtended, body); err != nil {
		return nil, err
	}
	kind, answer, err := c.receive()
	if err != nil {
		return nil, err
	}
	return parseCheck(kind, answer, c.next, algorithm)
}

// parseCheck reads the answer to a check: the algorithm that was used, and the
// hash's bytes.
func parseCheck(kind byte, answer []byte, id uint32, algorithm string) ([]byte, error) {
	if len(answer) < 4 || binary.BigEndian.Uint32(answer) != id {
		return nil, store.Errorf(store.ErrTryAgain, "the server answered to a request that was not sent")
	}
	answer = answer[4:]
	if kind == packetStatus && len(answer) >= 4 {
		code := binary.BigEndian.Uint32(answer)
		if code == statusUnsupported {
			return nil, store.Errorf(store.ErrUnsupported, "the server does not compute %s", algorithm)
		}
		return nil, store.Errorf(kindOf(code), "the server answered with the status %d", code)
	}
	used, rest, ok := cutString(answer)
	if ok && used == "check-file" { // some name the extension first
		used, rest, ok = cutString(rest)
	}
	if kind != packetExtendedReply || !ok || used != algorithm {
		return nil, store.Errorf(store.ErrUnsupported, "the server answered to check-file with %q", used)
	}
	return rest, nil
}

func cutString(b []byte) (s string, rest []byte, ok bool) {
	if len(b) < 4 {
		return "", nil, false
	}
	n := binary.BigEndian.Uint32(b)
	if uint64(n) > uint64(len(b)-4) {
		return "", nil, false
	}
	return string(b[4 : 4+n]), b[4+n:], true
}

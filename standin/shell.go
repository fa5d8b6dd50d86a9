package standin

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// SFTP is a running SFTP server of a folder on disk, for one user.
type SFTP struct {
	// Address is HOST:PORT, and HostKey the fingerprint of its key.
	Address, HostKey string

	listener net.Listener
	config   *ssh.ServerConfig
	root     *os.Root
	group    sync.WaitGroup
	mu       sync.Mutex
	open     map[net.Conn]bool
}

// StartSFTP starts an SFTP server of a folder on a free port of loopback.
func StartSFTP(folder, user, password string) (*SFTP, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		return nil, err
	}
	s := &SFTP{HostKey: signer.PublicKey().Type() + " " + ssh.FingerprintSHA256(signer.PublicKey()), open: map[net.Conn]bool{}}
	s.config = &ssh.ServerConfig{PasswordCallback: func(who ssh.ConnMetadata, given []byte) (*ssh.Permissions, error) {
		if subtle.ConstantTimeCompare([]byte(who.User()+"\x00"+string(given)), []byte(user+"\x00"+password)) != 1 {
			return nil, errors.New("not the password")
		}
		return nil, nil
	}}
	s.config.AddHostKey(signer)
	if s.root, err = os.OpenRoot(folder); err != nil {
		return nil, err
	}
	if s.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		s.root.Close()
		return nil, err
	}
	s.Address = s.listener.Addr().String()
	s.group.Go(s.serve)
	return s, nil
}

// Close ends the server and its connections.
func (s *SFTP) Close() error {
	err := s.listener.Close()
	s.mu.Lock()
	for connection := range s.open {
		connection.Close()
	}
	s.mu.Unlock()
	s.group.Wait()
	return errors.Join(err, s.root.Close())
}

func (s *SFTP) serve() {
	for {
		connection, err := s.listener.Accept()
		if err != nil {
			return
		}
		s.mu.Lock()
		s.open[connection] = true
		s.mu.Unlock()
		s.group.Go(func() {
			defer func() {
				connection.Close()
				s.mu.Lock()
				delete(s.open, connection)
				s.mu.Unlock()
			}()
			s.talk(connection)
		})
	}
}

// talk serves the sessions of one connection.
func (s *SFTP) talk(connection net.Conn) {
	_ = connection.SetDeadline(time.Now().Add(20 * time.Second))
	_, channels, requests, err := ssh.NewServerConn(connection, s.config)
	if err != nil {
		return
	}
	_ = connection.SetDeadline(time.Time{})
	s.group.Go(func() { ssh.DiscardRequests(requests) })
	for offered := range channels {
		if offered.ChannelType() != "session" {
			_ = offered.Reject(ssh.UnknownChannelType, "there are sessions alone")
			continue
		}
		channel, requests, err := offered.Accept()
		if err != nil {
			return
		}
		s.group.Go(func() { s.session(channel, requests) })
	}
}

func (s *SFTP) session(channel ssh.Channel, requests <-chan *ssh.Request) {
	defer channel.Close()
	for request := range requests {
		begins := request.Type == "subsystem" && string(request.Payload[4:]) == "sftp"
		_ = request.Reply(begins, nil)
		if !begins {
			continue
		}
		s.group.Go(func() { ssh.DiscardRequests(requests) })
		files := &sftpFiles{s.root}
		server := sftp.NewRequestServer(channel, sftp.Handlers{FileGet: files, FilePut: files, FileCmd: files, FileList: files})
		_ = server.Serve() // ends with the channel
		_ = server.Close()
		return
	}
}

// sftpFiles implements the library's handlers on a folder that nothing leads out of.
type sftpFiles struct{ root *os.Root }

// local is a path below the folder.
func local(path string) string {
	if path = strings.Trim(path, "/"); path == "" {
		return "."
	}
	return path
}

func (f *sftpFiles) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	return f.root.Open(local(r.Filepath))
}

func (f *sftpFiles) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	flags, asked := os.O_WRONLY, r.Pflags()
	for flag, wanted := range map[int]bool{os.O_CREATE: asked.Creat, os.O_EXCL: asked.Excl, os.O_TRUNC: asked.Trunc} {
		if wanted {
			flags |= flag
		}
	}
	return f.root.OpenFile(local(r.Filepath), flags, 0o644)
}

func (f *sftpFiles) Filecmd(r *sftp.Request) error {
	path, target := local(r.Filepath), local(r.Target)
	switch r.Method {
	case "Setstat":
		if r.AttrFlags().Acmodtime {
			attributes := r.Attributes()
			return f.root.Chtimes(path, attributes.AccessTime(), attributes.ModTime())
		}
		return nil
	case "Rename":
		if _, err := f.root.Lstat(target); err == nil {
			return fs.ErrExist
		}
		return f.root.Rename(path, target)
	case "Rmdir", "Remove":
		return f.root.Remove(path)
	case "Mkdir":
		return f.root.Mkdir(path, 0o755)
	case "Link":
		return f.root.Link(path, target)
	}
	return sftp.ErrSSHFxOpUnsupported
}

// PosixRename replaces what is there.
func (f *sftpFiles) PosixRename(r *sftp.Request) error {
	return f.root.Rename(local(r.Filepath), local(r.Target))
}

func (f *sftpFiles) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	path := local(r.Filepath)
	if r.Method != "List" {
		info, err := f.root.Stat(path)
		return infos{info}, err
	}
	folder, err := f.root.Open(path)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	all, err := folder.Readdir(-1)
	return infos(all), err
}

// Lstat looks at a link itself.
func (f *sftpFiles) Lstat(r *sftp.Request) (sftp.ListerAt, error) {
	info, err := f.root.Lstat(local(r.Filepath))
	return infos{info}, err
}

// infos implements sftp.ListerAt.
type infos []os.FileInfo

func (all infos) ListAt(into []os.FileInfo, from int64) (int, error) {
	if from < 0 || from > int64(len(all)) {
		return 0, fmt.Errorf("from %d of %d", from, len(all))
	}
	n := copy(into, all[from:])
	if n < len(into) {
		return n, io.EOF
	}
	return n, nil
}

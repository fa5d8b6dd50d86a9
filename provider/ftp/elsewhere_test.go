package ftp_test

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"deftheron/core/store"
	"deftheron/provider/ftp"
)

// TestDataGoesToTheServer has a server name another machine for its data connections: it
// is not connected to.
func TestDataGoesToTheServer(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	var passive sync.Map
	go func() {
		for {
			connection, err := listener.Accept()
			if err != nil {
				return
			}
			go answerFTP(connection, &passive)
		}
	}()
	host, port, _ := net.SplitHostPort(listener.Addr().String())
	var mu sync.Mutex
	dialled := map[string]bool{}
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		to, _, _ := net.SplitHostPort(address)
		mu.Lock()
		dialled[to] = true
		mu.Unlock()
		return (&net.Dialer{Timeout: time.Second}).DialContext(ctx, network, address)
	}
	options, err := store.CheckOptions(ftp.Provider{}, map[string]string{"host": host, "port": port, "user": "field", "tls": "none"}, true)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	s, err := ftp.Provider{}.Open(ctx, store.Opening{Options: options, Secrets: store.FixedSecret("x"), Dial: dial})
	if err == nil {
		for _, err = range s.List(ctx, store.Folder{}) {
			break
		}
	}
	if _, asked := passive.Load("PASV"); !asked {
		t.Fatalf("no data connection was asked for: %v", err)
	}
	mu.Lock()
	defer mu.Unlock()
	if len(dialled) != 1 || !dialled[host] {
		t.Errorf("connected to %v", dialled)
	}
}

// answerFTP answers as a server that sends data connections to 10.9.8.7.
func answerFTP(connection net.Conn, passive *sync.Map) {
	defer connection.Close()
	say := func(line string) { fmt.Fprint(connection, line+"\r\n") }
	say("220 ready")
	for lines := bufio.NewScanner(connection); lines.Scan(); {
		command, _, _ := strings.Cut(strings.ToUpper(lines.Text()), " ")
		switch command {
		case "USER":
			say("331 password")
		case "PASS":
			say("230 signed in")
		case "FEAT":
			say("211-Features\r\n MLST type*;size*;modify*;\r\n UTF8\r\n211 End")
		case "PWD":
			say(`257 "/"`)
		case "EPSV":
			say("502 not known")
		case "PASV":
			passive.Store("PASV", true)
			say("227 Entering Passive Mode (10,9,8,7,4,210)")
		case "QUIT":
			say("221 bye")
			return
		case "TYPE", "OPTS", "CWD", "NOOP":
			say("200 well")
		default:
			say("502 not known")
		}
	}
}

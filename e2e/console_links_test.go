package e2e

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"

	"deftheron/servertest"
)

// choose sets the browser's own list that bears a label.
func (b *window) choose(label, value string) {
	b.t.Helper()
	field := fmt.Sprintf(`[...document.querySelectorAll('label')].find((e) => e.querySelector('span')?.textContent === %s)?.querySelector('select')`, quote(label))
	b.until(field)
	js[any](b, fmt.Sprintf(`(() => { const e = %s; Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(e, %s);
		e.dispatchEvent(new Event('change', { bubbles: true })); return null })()`, field, quote(value)))
}

// TestConsoleLinks goes through the accounts pages: a server's key is compared, a
// private key is given, several shares are ticked, an account is checked, edited,
// suspended, measured, unlinked and linked again.
func TestConsoleLinks(t *testing.T) {
	t.Parallel()
	h := start(t)
	shell := servertest.StartOpenSSH(t)
	samba := servertest.StartSamba(t, servertest.SambaOptions{})
	path := shell.Folder(t)
	writeFile(t, "one", path, "Surveys", "a.csv")
	key := filepath.Join(t.TempDir(), "key")
	if err := os.WriteFile(key, []byte(shell.LockedKey), 0o600); err != nil {
		t.Fatal(err)
	}
	b := openBrowser(t)
	b.watchPolicy()
	accounts := "http://" + h.listen + "/accounts"
	b.open(h.signin)
	b.shows("Accounts")

	b.open(accounts + "/link")
	b.shows("Cloud drives")
	b.accessible("the providers")
	b.click("Find a provider")
	b.keys("sft")
	b.until(`document.querySelectorAll('section li button').length === 1`)
	b.click("SFTP server")
	b.field("Name in the tree", "gauges")
	b.field("Host", shell.Host)
	b.field("Port (optional)", shell.Port)
	b.field("User", shell.User)
	b.do(chromedp.SetUploadFiles(`input[type=file]`, []string{key}))
	b.shows("A file is chosen.")
	b.field("Password, or the key's passphrase (optional)", "wrong")
	b.field("Folder (optional)", path)
	b.accessible("linking by a key")
	b.click("Continue")
	b.shows("Is this the right server?")
	b.shows(shell.HostKey)
	b.accessible("a server's key")
	b.click("It is the right one")
	b.until("!document.querySelector('[role=dialog]')")
	b.shows("The passphrase does not open the private key")
	b.field("Password, or the key's passphrase (optional)", shell.Passphrase)
	b.click("Continue")
	b.click("Link it")
	b.shows("Linked as")
	b.shows("Surveys")

	// Several of what is behind one sign-in.
	b.open(accounts + "/link")
	b.click("SMB share")
	b.field("Name in the tree", "office")
	b.field("Host", samba.Host)
	b.field("Port (optional)", samba.Port)
	b.field("User", samba.User)
	b.field("Password", samba.Password)
	b.click("Continue")
	b.shows("The sign-in works.")
	b.accessible("the shares behind a sign-in")
	b.click("All shares")
	b.click("Link 2 shares")
	b.shows("/office-surveys")
	b.shows("/office-permits")

	b.open(accounts)
	b.click("Check gauges")
	b.shows("✓ reached")
	b.accessible("the accounts")
	b.click("Details of gauges")
	b.shows("Last seen")
	b.shows("the owner, in the console")
	b.choose("Size of a scratch file", "4096")
	b.field("How many", "8")
	b.choose("Compare with", "office-surveys")
	b.click("Measure")
	b.shows("8 files of 4.0 KiB")
	b.until(`document.body.innerText.includes('Removing') && document.querySelectorAll('section[aria-label=Speed] .bg-line').length === 3`)
	b.accessible("an account's details")

	b.click("Suspend")
	b.shows("suspended")
	b.until("!" + find("Open in the tree"))
	b.click("Resume")
	b.until(find("Open in the tree"))

	// Another storage by mistake: it is asked about.
	other := servertest.StartOpenSSH(t)
	relay := servertest.StartRelay(t, net.JoinHostPort(shell.Host, shell.Port))
	b.click("Edit")
	b.shows("The new settings are tried first")
	b.accessible("editing")
	b.field("Folder (optional)", other.Folder(t))
	b.field("Port (optional)", other.Port)
	b.field("Host key (optional)", other.HostKey)
	b.click("Change it")
	b.shows("is not sent to")
	b.do(chromedp.SetUploadFiles(`input[type=file]`, []string{key}))
	b.shows("A file is chosen.")
	b.field("New secret (leave empty to keep the current one)", shell.Passphrase)
	b.click("Change it")
	b.until(`document.body.innerText.includes('does not accept the user') || document.body.innerText.includes('Is this a different storage?')`)
	b.open(accounts + "/office-surveys/edit")
	b.field("Share", samba.Other)
	b.click("Change it")
	b.shows("Is this a different storage?")
	b.accessible("another storage")
	b.click("Keep the settings")
	b.until("!document.querySelector('[role=dialog]')")
	b.field("Share", samba.Share)
	b.field("Name in the tree", "surveys")
	b.click("Change it")
	b.shows("it was called office-surveys")
	b.open(accounts + "/gauges/edit")
	b.field("Port (optional)", relay.Port)
	b.do(chromedp.SetUploadFiles(`input[type=file]`, []string{key}))
	b.shows("A file is chosen.")
	b.field("New secret (leave empty to keep the current one)", shell.Passphrase)
	b.field("Starting folder (optional)", "Surveys")
	b.click("Change it")
	b.shows("start Surveys in place of none")

	b.click("Unlink")
	b.click("Unlink gauges")
	b.shows("Unlinked")
	b.accessible("links that have ended")
	b.click("Link it again: gauges")
	b.shows("Unlinked ")
	b.do(chromedp.SetUploadFiles(`input[type=file]`, []string{key}))
	b.field("Password, or the key's passphrase (optional)", shell.Passphrase)
	b.click("Continue")
	b.click("Link it")
	b.shows("Linked as")
	b.shows("/gauges")
	b.open(accounts + "/link")
	b.click("Look for servers on the local network")
	b.until(`document.body.innerText.includes('No server announced itself') || document.querySelector('section[aria-label="Servers on the network"] button')`)
	b.keptToPolicy()
	b.open(accounts + "/nobody")
	b.shows("There is no account nobody.")
}

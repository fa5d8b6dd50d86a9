package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/standin"
)

// What of the generated data lies in the two clouds.
const (
	fieldFolder  = "Field surveys" // in Sedge
	officeFolder = "Office"        // in Alder
)

// The demo's own app registration at Sedge, whose default one is slow.
const (
	demoClient = "fenmere-desk"
	demoSecret = "kept-for-the-demo"
)

// The people who agree, by their roles.
const (
	fieldUser  = "surveys@fenmere.example"
	officeUser = "office@tolland.example"
)

// FillClouds moves Fenmere's field surveys from the desk to Sedge, where notes are
// documents of its own, and Tolland's reports to Alder.
func FillClouds(root string, clouds *standin.Clouds) error {
	clouds.Sedge.Consents.Register(standin.Client{ID: demoClient, Secret: demoSecret, Redirects: []string{standin.Callback}})
	field := filepath.Join(root, DeskFolder, fieldFolder)
	err := eachFile(field, func(folder []string, name string, data []byte, modified time.Time) error {
		if title, ok := strings.CutSuffix(name, ".txt"); ok {
			clouds.Sedge.Document(folder, "text", title, strings.TrimSpace(string(data)))
			return nil
		}
		return clouds.Sedge.Put(folder, name, data, modified)
	})
	if err != nil {
		return err
	}
	clouds.Sedge.Document([]string{"2026"}, "sheet", "Species by river",
		"river\tbrown trout\teel\nFen Water\t212\t14\nRiver Tolle\t187\t9\nSedge Drain\t40\t31")
	clouds.Sedge.Document([]string{"2026"}, "slides", "Findings for the trustees",
		"Fish passage at Withy Weir\nWhat the hydrophone heard\nNext steps")
	for _, text := range []string{"Sketch from the left bank.", "Sketch from the right bank, of the same name."} {
		if err := clouds.Sedge.Put([]string{"2026", "Alderbrook"}, "sketch.txt", []byte(text+"\n"), epoch); err != nil {
			return err
		}
	}
	// A folder, and two files in it, that others work with.
	clouds.Sedge.ShareWith([]string{"2026", "Alderbrook"}, "", map[string]string{"surveyor-01@fenmere.example": "writer",
		"ranger-01@fenmere.example": "commenter"}, 0)
	clouds.Sedge.ShareWith([]string{"2026", "Species by river"}, "hydrologist-01@fenmere.example",
		map[string]string{"office-01@fenmere.example": "reader"}, 1)
	office := filepath.Join(root, DeskFolder, officeFolder)
	if err := eachFile(office, clouds.Alder.Put); err != nil {
		return err
	}
	return errors.Join(os.RemoveAll(field), os.RemoveAll(office))
}

func eachFile(root string, do func(folder []string, name string, data []byte, modified time.Time) error) error {
	return filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) || err == nil && entry.IsDir() {
			return nil // of a demo that was kept: they are there already
		}
		if err != nil {
			return err
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		info, err := entry.Info()
		if err != nil {
			return err
		}
		below, err := filepath.Rel(root, path)
		if err != nil {
			return err
		}
		steps := strings.Split(filepath.ToSlash(below), "/")
		return do(steps[:len(steps)-1], steps[len(steps)-1], data, info.ModTime())
	})
}

// linkByConsent links an account, and agrees at the stand-in's page as a person
// would in a browser.
func linkByConsent(ctx context.Context, c *client.Client, link contract.Link, user string) (contract.Account, error) {
	consent, err := c.BeginConsent(ctx, contract.Consenting{Link: link, Way: "page"})
	if err != nil {
		return contract.Account{}, err
	}
	if err := Agree(ctx, consent.URL, user); err != nil {
		return contract.Account{}, err
	}
	if consent, err = c.Consent(ctx, consent.ID); err != nil {
		return contract.Account{}, err
	}
	if consent.State != "linked" {
		return contract.Account{}, fmt.Errorf("%s was not linked: %s", link.Name, consent.Why)
	}
	return *consent.Account, nil
}

// Agree presses "Agree" on a stand-in's consent page as a user, and follows where
// it leads back to.
func Agree(ctx context.Context, page, user string) error {
	address, err := url.Parse(page)
	if err != nil {
		return err
	}
	form := url.Values{"query": {address.RawQuery}, "user": {user}, "answer": {"agree"}}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, address.Scheme+"://"+address.Host+address.Path,
		strings.NewReader(form.Encode()))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(response.Body, 4<<10))
		return fmt.Errorf("the consent page led to %s: %s", response.Status, text)
	}
	return nil
}

package bench

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/core/gate"
	"deftheron/core/store"
	"deftheron/provider/declared"
)

// canned answers requests from memory: what is measured is the mapping.
type canned map[string][]byte

func (c canned) RoundTrip(request *http.Request) (*http.Response, error) {
	body, ok := c[request.URL.Path]
	if !ok {
		return nil, fmt.Errorf("nobody asked for %s in this benchmark", request.URL.Path)
	}
	return &http.Response{StatusCode: 200, Header: http.Header{"Content-Type": {"application/json"}},
		Body: io.NopCloser(bytes.NewReader(body)), Request: request}, nil
}

// TestBenchDefinition maps a page of 1,000 entries by the definition of Sedge,
// all of its members, and holds that against decoding the same page alone.
func TestBenchDefinition(t *testing.T) {
	skip(t)
	var page strings.Builder
	page.WriteString(`{"items":[`)
	for i := range 1000 {
		fmt.Fprintf(&page, `{"item_id":"f%07d","title":"Gauge %d at the weir.csv","parent_id":"root-own","type":"file","created_at":"2026-03-02T08:00:00.123456789Z","modified_ms":%d,"rev":"r%d","in_trash":false,"bytes":"%d","md5":"d41d8cd98f00b204e9800998ecf8427e"},`,
			i, i, 1772438400000+i, i, i*10)
	}
	body := []byte(strings.TrimSuffix(page.String(), ",") + `],"next_page_token":null}`)
	answers := canned{
		"/v2/items": body, "/v2/me": []byte(`{"account":"a","mail":"m"}`),
		"/v2/areas": []byte(`{"areas":[{"area_id":"own","label":"My files","root":"root-own"}]}`),
	}
	all, err := declared.Shipped()
	if err != nil {
		t.Fatal(err)
	}
	at := slices.IndexFunc(all, func(p *declared.Provider) bool { return p.Name() == "sedge" })
	opened, err := all[at].Open(t.Context(), store.Opening{
		Options: map[string]string{"url": "http://sedge.example"}, Secrets: store.FixedSecret(`{"way":"code","access":"x"}`),
		Gate: gate.New("bench", 16, 64), Transport: answers, Now: time.Now, Log: slog.New(slog.DiscardHandler),
	})
	if err != nil {
		t.Fatal(err)
	}
	var mapped, decoded []float64
	for range 20 * *pairs {
		begun := time.Now()
		n := 0
		for _, err := range opened.List(t.Context(), store.Folder{}) {
			if err != nil {
				t.Fatal(err)
			}
			n++
		}
		mapped = append(mapped, time.Since(begun).Seconds()*1000)
		if n != 1000 {
			t.Fatal(n)
		}
		begun = time.Now()
		decoder := json.NewDecoder(bytes.NewReader(body))
		decoder.UseNumber()
		var plain any
		if err := decoder.Decode(&plain); err != nil {
			t.Fatal(err)
		}
		decoded = append(decoded, time.Since(begun).Seconds()*1000)
	}
	slices.Sort(mapped)
	slices.Sort(decoded)
	middle := mapped[len(mapped)/2]
	figure("a page of 1,000 entries through a definition", "≤ 12 ms", middle,
		fmt.Sprintf("ms (median; plain decoding %.1f)", decoded[len(decoded)/2]), middle <= 12)
}

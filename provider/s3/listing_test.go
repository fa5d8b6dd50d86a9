package s3

import (
	"encoding/xml"
	"fmt"
	"net/http"
	"net/url"
	"reflect"
	"strings"
	"testing"
	"time"
)

const plainPage = `<?xml version="1.0" encoding="UTF-8"?>
<ListBucketResult xmlns="http://s3.amazonaws.com/doc/2006-03-01/"><Name>reports</Name><Prefix></Prefix><KeyCount>3</KeyCount>
<IsTruncated>true</IsTruncated><NextContinuationToken>a&amp;b</NextContinuationToken><EncodingType>url</EncodingType>
<Contents><Key>2026%2FJune+1.pdf</Key><LastModified>2026-11-02T10:20:30.400Z</LastModified><ETag>&quot;d41d8cd9&quot;</ETag><Size>42</Size>
<Owner><ID>1</ID><DisplayName/></Owner><StorageClass>STANDARD</StorageClass></Contents>
<Contents><Key>plain</Key><LastModified>2026-11-02T10:20:30Z</LastModified><ETag>"x"</ETag><Size>0</Size><Owner></Owner></Contents>
<CommonPrefixes><Prefix>folder%2F</Prefix></CommonPrefixes></ListBucketResult>`

func TestParseListing(t *testing.T) {
	want := listing{
		Objects: []listed{
			{Key: "2026/June 1.pdf", ETag: `"d41d8cd9"`, Size: 42, Modified: time.Date(2026, 11, 2, 10, 20, 30, 400e6, time.UTC)},
			{Key: "plain", ETag: `"x"`, Modified: time.Date(2026, 11, 2, 10, 20, 30, 0, time.UTC)},
		},
		Prefixes: []prefix{{"folder/"}}, More: true, Next: "a&b", Encoding: "url",
	}
	if _, plain := parsePlain([]byte(plainPage)); !plain {
		t.Error("a common page was not taken for one")
	}
	for name, text := range map[string]string{
		"plain":   plainPage,
		"comment": strings.Replace(plainPage, "<Contents>", "<!-- the first --><Contents>", 1),
		"CDATA":   strings.Replace(plainPage, "plain<", "<![CDATA[plain]]><", 1),
		"prefixes": strings.NewReplacer("<Key>", "<s:Key>", "</Key>", "</s:Key>", "<ListBucketResult ",
			`<ListBucketResult xmlns:s="http://s3.amazonaws.com/doc/2006-03-01/" `).Replace(plainPage),
		"entities": strings.Replace(plainPage, "plain<", "pl&#x61;in<", 1),
		"spaces":   strings.Replace(plainPage, "<Size>42", "<Size> 42 ", 1),
	} {
		if got, err := parseListing([]byte(text)); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %+v, %v", name, got, err)
		}
	}
	for name, text := range map[string]string{
		"cut off": plainPage[:len(plainPage)-30], "not XML": "<html><p>Moved<br></html>", "empty": "",
		"size": strings.Replace(plainPage, ">42<", ">many<", 1),
		"name": strings.Replace(plainPage, "June", "%zz", 1),
	} {
		if got, err := parseListing([]byte(text)); err == nil {
			t.Errorf("%s: %+v was taken for a listing", name, got)
		}
	}
}

// FuzzParseListing holds what is parsed the short way against the standard library.
func FuzzParseListing(f *testing.F) {
	f.Add(plainPage)
	f.Add(`<ListBucketResult><Contents><Key>&amp;lt;</Key></Contents></ListBucketResult>`)
	f.Add(`<ListBucketResult a="b"><Contents/><x><y>z</y></x></ListBucketResult> `)
	f.Add(`<ListBucketResult><Key>a</Key`)
	f.Fuzz(func(t *testing.T, text string) {
		got, plain := parsePlain([]byte(text))
		if !plain || strings.ContainsAny(text, "\uFFFE\uFFFF") { // which XML has not, and keys may have
			return
		}
		var want listing
		if err := xml.Unmarshal([]byte(text), &want); err != nil {
			t.Fatalf("taken for well formed: %v", err)
		}
		for i := range want.Objects {
			want.Objects[i].Modified = want.Objects[i].Modified.Truncate(time.Millisecond)
		}
		if fmt.Sprintf("%+v", got) != fmt.Sprintf("%+v", want) {
			t.Fatalf("got  %+v\nwant %+v", got, want)
		}
	})
}

// TestSign looks what is signed, and that the key of one day is not used on the next.
// That signatures are right is what servers say in every other test.
func TestSign(t *testing.T) {
	s := &signer{key: "AKIDEXAMPLE", secret: "wJalrXUtnFEMI/K7MDENG+bPxRfiCYEXAMPLEKEY", region: "us-east-1"}
	at := time.Date(2026, 11, 2, 10, 20, 30, 0, time.UTC)
	signed := func(at time.Time) string {
		request := &http.Request{Method: "GET", Host: "objects.example.org", URL: &url.URL{Path: "/reports/a b", RawQuery: "list-type=2"},
			Header: http.Header{"If-Match": {`"x"`}}}
		s.sign(request, "/reports/a%20b", at)
		return request.Header.Get("Authorization")
	}
	first := signed(at)
	if want := "AWS4-HMAC-SHA256 Credential=AKIDEXAMPLE/20261102/us-east-1/s3/aws4_request, " +
		"SignedHeaders=host;if-match;x-amz-content-sha256;x-amz-date, Signature="; !strings.HasPrefix(first, want) {
		t.Errorf("signed as %q", first)
	}
	next := signed(at.AddDate(0, 0, 1))
	if again := signed(at); again != first || next == first {
		t.Errorf("the same request was signed as %q and %q, and a day later as %q", first, again, next)
	}
}

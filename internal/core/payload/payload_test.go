package payload

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"

	"youngtrellis/internal/core/item"
)

// kept are files in memory.
type kept map[string]string

func (k kept) save(name, kind string, content io.Reader) (*item.File, error) {
	b, err := io.ReadAll(content)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(b)
	f := &item.File{ID: "sha256-" + hex.EncodeToString(sum[:]), Name: name, Type: kind, Size: int64(len(b))}
	k[name] = string(b)
	return f, nil
}

func body(kind, content string) Body {
	return Body{ContentType: kind, Content: strings.NewReader(content), MostBytes: 1 << 20, MostItems: 1000}
}

// said is what items hold, as JSON.
func said(t *testing.T, items []map[string]any) string {
	t.Helper()
	text, err := item.EncodeList(items)
	require.NoError(t, err)
	return string(text)
}

func utf16(t *testing.T, s string) string {
	t.Helper()
	out, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(s)
	require.NoError(t, err)
	return out
}

const form = "--edge\r\nContent-Disposition: form-data; name=\"glaze\"\r\n\r\nCeladon 4\r\n" +
	"--edge\r\nContent-Disposition: form-data; name=\"cone\"\r\nContent-Type: text/plain; charset=iso-8859-1\r\n\r\nn\xe4\r\n" +
	"--edge\r\nContent-Disposition: form-data; name=\"cone\"\r\n\r\n9\r\n" +
	"--edge\r\nContent-Disposition: form-data; name=\"more\"\r\nContent-Type: application/json\r\n\r\n{\"kg\": 4.50}\r\n"

func TestWhatABodyHolds(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ kind, body, want string }{
		"JSON":                            {"application/json", `{"id": 1234567890123456789}`, `[{"id":1234567890123456789}]`},
		"a list of JSON":                  {"application/json; charset=utf-8", `[{"a": 1}, {"a": 2}]`, `[{"a":1},{"a":2}]`},
		"JSON of a kind":                  {"application/cloudevents+json", `{"a": null}`, `[{"a":null}]`},
		"JSON that does not say so":       {"", ` {"a": 1}`, `[{"a":1}]`},
		"JSON with a byte order mark":     {"application/json", "\ufeff{\"a\": 1}", `[{"a":1}]`},
		"the same that does not say so":   {"", "\ufeff[{\"a\": 1}]", `[{"a":1}]`},
		"JSON in UTF-16":                  {"application/json", utf16(t, `{"a": "ä"}`), `[{"a":"ä"}]`},
		"a form":                          {"application/x-www-form-urlencoded", "a=1&b=x+y&b=z&c=", `[{"a":"1","b":["x y","z"],"c":""}]`},
		"text":                            {"text/plain", "hello", `[{"body":"hello"}]`},
		"text in another charset":         {"text/plain; charset=windows-1252", "5 \x80", `[{"body":"5 €"}]`},
		"text with a byte order mark":     {"text/plain", "\ufeffhello", `[{"body":"hello"}]`},
		"text that does not say so":       {"", "hello", `[{"body":"hello"}]`},
		"nothing":                         {"", "", `[{"q":"1"}]`},
		"a form with parts":               {"multipart/form-data; boundary=edge", form + "--edge--\r\n", `[{"cone":["nä","9"],"glaze":"Celadon 4","more":{"kg":4.5}}]`},
		"a form without any":              {"multipart/form-data; boundary=edge", "--edge--\r\n", `[{}]`},
		"XML":                             {"application/xml", `<?xml version="1.0"?><!-- a lot --><lot id="7"><kg>4.5</kg><piece n="1">bowl</piece><piece n="2"> jug </piece></lot>`, `[{"@id":"7","kg":"4.5","piece":[{"#text":"bowl","@n":"1"},{"#text":"jug","@n":"2"}]}]`},
		"XML of one text":                 {"text/xml", "<lot>7 &amp; 8</lot>\n", `[{"body":"7 & 8"}]`},
		"XML with spaces of names":        {"application/soap+xml", `<s:e xmlns:s="https://clay.example/s" xmlns="https://clay.example"><s:b><lot s:id="7"/></s:b></s:e>`, `[{"b":{"lot":{"@id":"7"}}}]`},
		"XML with several and empty":      {"application/xml", `<l><a/><a></a><a>1</a></l>`, `[{"a":["","","1"]}]`},
		"XML in another charset":          {"application/xml", "<?xml version=\"1.0\" encoding=\"iso-8859-1\"?><l><a>\xe4</a></l>", `[{"a":"ä"}]`},
		"XML whose type says the charset": {"application/xml; charset=iso-8859-1", "<?xml version=\"1.0\" encoding=\"utf-8\"?><l><a>\xe4</a></l>", `[{"a":"ä"}]`},
		"XML in UTF-16":                   {"application/xml", utf16(t, `<?xml version="1.0" encoding="utf-16"?><l><a>ä</a></l>`), `[{"a":"ä"}]`},
		"XML with mixed text":             {"application/xml", `<l>a<b>1</b>c</l>`, `[{"#text":"ac","b":"1"}]`},
		"XML with CDATA":                  {"application/xml", `<l><a><![CDATA[<b>]]></a></l>`, `[{"a":"<b>"}]`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := body(c.kind, c.body)
			b.Query = url.Values{"q": {"1"}}
			got, err := Items(b)
			require.NoError(t, err)
			require.Equal(t, c.want, said(t, got))
		})
	}
}

func TestWhyABodyCannotBeRead(t *testing.T) {
	t.Parallel()
	deep := strings.Repeat("<a>", 101) + strings.Repeat("</a>", 101)
	part := func(head, content string) string {
		return "--edge\r\n" + head + "\r\n\r\n" + content + "\r\n--edge--\r\n"
	}
	for name, c := range map[string]struct{ kind, body, want string }{
		"JSON that ends":              {"application/json", `{"a": `, "ends in the middle"},
		"JSON that is no object":      {"application/json", `"x"`, "this is text"},
		"an empty list":               {"application/json", `[]`, "the list is empty"},
		"one of a list":               {"application/json", `[{"a": 1}, 2]`, "this is a number"},
		"half a character":            {"application/json", "{\"a\": \"\xff\"}", "not UTF-8"},
		"half a pair":                 {"application/json", `{"id": "\ud800"}`, "half of a surrogate pair"},
		"too many":                    {"application/json", "[" + strings.Repeat("{},", 1000) + "{}]", "the list has 1,001 items; at most 1,000 start with one call (--event-items"},
		"a type that is none":         {"a/b/c", "x", "cannot be read"},
		"a form":                      {"application/x-www-form-urlencoded", "%zz", "the form cannot be read"},
		"a form with U+0000":          {"application/x-www-form-urlencoded", "id=a%00", `the field "id": the text holds U+0000`},
		"a form with a broken name":   {"application/x-www-form-urlencoded", "%ff=1", "the name of a field: the text holds a byte that is not UTF-8"},
		"a picture":                   {"image/png", "x", "the content type image/png is not taken here; send JSON, XML, a form or text"},
		"text with U+0000":            {"text/plain", "a\x00", "U+0000 at byte 1"},
		"text that is none":           {"text/plain", "\xff\xff", "not UTF-8"},
		"a charset that is none":      {"text/plain; charset=utf-99", "a", `the charset "utf-99" is not known`},
		"XML that ends":               {"application/xml", `<a><b>`, "the XML cannot be read: XML syntax error on line 1: unexpected EOF"},
		"XML of nothing":              {"application/xml", ` <!-- x --> `, "the XML holds no element"},
		"XML with two":                {"application/xml", `<a/><b/>`, "the XML has a second element b behind its first"},
		"XML with text behind":        {"application/xml", `<a/>x`, "the XML has text behind its element"},
		"XML with text before":        {"application/xml", `x<a/>`, "the XML has text outside of its element"},
		"XML with entities":           {"application/xml", `<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>`, "declares entities of its own"},
		"XML with an entity":          {"application/xml", `<a>&x;</a>`, "invalid character entity &x;"},
		"XML that is deep":            {"application/xml", deep, "the XML is deeper than 100 elements"},
		"parts without a boundary":    {"multipart/form-data", "x", "does not say its boundary"},
		"parts of another kind":       {"multipart/mixed; boundary=edge", "x", "parts come as multipart/form-data"},
		"parts that end":              {"multipart/form-data; boundary=edge", form, "the form cannot be read: "},
		"parts with another boundary": {"multipart/form-data; boundary=other", form + "--edge--\r\n", "the form has no part between the boundaries"},
		"a part without a name":       {"multipart/form-data; boundary=edge", part("Content-Disposition: form-data", "x"), "part 1 of the form has no name"},
		"a part of parts":             {"multipart/form-data; boundary=edge", part("Content-Disposition: form-data; name=a\r\nContent-Type: multipart/mixed; boundary=b", "x"), `the field "a" has parts of its own`},
		"a part whose type is none":   {"multipart/form-data; boundary=edge", part("Content-Disposition: form-data; name=a\r\nContent-Type: /", "x"), `the Content-Type of the field "a" cannot be read`},
		"a part that is no JSON":      {"multipart/form-data; boundary=edge", part("Content-Disposition: form-data; name=a\r\nContent-Type: application/json", "{"), `the field "a": `},
		"a file where none is taken":  {"multipart/form-data; boundary=edge", part("Content-Disposition: form-data; name=a; filename=a.png", "x"), `the field "a" is a file, and none are taken here`},
		"too many parts":              {"multipart/form-data; boundary=edge", strings.Repeat("--edge\r\nContent-Disposition: form-data; name=a\r\n\r\n\r\n", 1001) + "--edge--\r\n", "the form has more than 1000 parts"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			_, err := Items(body(c.kind, c.body))
			require.ErrorContains(t, err, c.want)
			var unreadable *Unread
			require.ErrorAs(t, err, &unreadable)
		})
	}
}

func TestFilesComeInAsReferences(t *testing.T) {
	t.Parallel()
	files := kept{}
	b := body("multipart/form-data; boundary=edge", form+
		"--edge\r\nContent-Disposition: form-data; name=\"picture\"; filename=\"bowl.png\"\r\nContent-Type: image/png\r\n\r\n\x89PNG\x00\r\n"+
		"--edge\r\nContent-Disposition: form-data; name=\"picture\"; filename=\"note.txt\"\r\n\r\nfired\r\n--edge--\r\n")
	b.Files = files.save
	got, err := Items(b)
	require.NoError(t, err)
	list := got[0]["picture"].([]any)
	require.Len(t, list, 2)
	first, ok := item.AsFile(list[0])
	require.True(t, ok)
	require.Equal(t, "bowl.png", first.Name)
	require.Equal(t, "image/png", first.Type)
	require.EqualValues(t, 5, first.Size)
	require.Equal(t, kept{"bowl.png": "\x89PNG\x00", "note.txt": "fired"}, files)

	b = body("image/png", "\x89PNG\x00")
	b.Files = files.save
	got, err = Items(b)
	require.NoError(t, err)
	raw, ok := item.AsFile(got[0]["body"])
	require.True(t, ok)
	require.EqualValues(t, 5, raw.Size)

	b = body("image/png", "x")
	away := errors.New("no room")
	b.Files = func(string, string, io.Reader) (*item.File, error) { return nil, away }
	_, err = Items(b)
	require.ErrorIs(t, err, away)
	b = body("multipart/form-data; boundary=edge", "--edge\r\nContent-Disposition: form-data; name=a; filename=a\r\n\r\nx\r\n--edge--\r\n")
	b.Files = func(string, string, io.Reader) (*item.File, error) { return nil, away }
	_, err = Items(b)
	require.ErrorIs(t, err, away)
}

// breaks gives some bytes, and then an error of its own.
type breaks struct {
	from io.Reader
	err  error
}

func (b *breaks) Read(p []byte) (int, error) {
	n, err := b.from.Read(p)
	if err == io.EOF {
		err = b.err
	}
	return n, err
}

func TestWhatIsPackedIsUnpackedWithinBounds(t *testing.T) {
	t.Parallel()
	pack := func(encoding, text string) string {
		var out bytes.Buffer
		var z io.WriteCloser = gzip.NewWriter(&out)
		if encoding == "deflate" {
			z = zlib.NewWriter(&out)
		}
		_, err := io.WriteString(z, text)
		require.NoError(t, err)
		require.NoError(t, z.Close())
		return out.String()
	}
	for _, encoding := range []string{"gzip", "deflate", "GZIP "} {
		plain := strings.ToLower(strings.TrimSpace(encoding))
		b := body("application/json", pack(plain, `{"a": 1}`))
		b.Encoding = encoding
		got, err := Items(b)
		require.NoError(t, err)
		require.Equal(t, `[{"a":1}]`, said(t, got))

		b = body("application/json", pack(plain, `{"a": "`+strings.Repeat("x", 2<<20)+`"}`))
		b.Encoding = encoding
		var large *TooLarge
		_, err = Items(b)
		require.ErrorAs(t, err, &large)
		require.Equal(t, "the body is larger than 1.0 MB", err.Error())

		for _, kind := range []string{"image/png", "multipart/form-data; boundary=edge"} { // a file is no way around it
			b = body(kind, pack(plain, "--edge\r\nContent-Disposition: form-data; name=a; filename=a\r\n\r\n"+strings.Repeat("x", 2<<20)+"\r\n--edge--\r\n"))
			b.Encoding, b.Files, b.Most = encoding, kept{}.save, 1<<20
			_, err = Items(b)
			require.ErrorAs(t, err, &large, kind)
		}

		whole := pack(plain, `{"a": 1}`)
		for n := range len(whole) {
			b = body("application/json", whole[:n])
			b.Encoding = encoding
			_, err = Items(b)
			var unreadable *Unread
			require.ErrorAs(t, err, &unreadable, "%d of %d bytes", n, len(whole))
		}
		away := errors.New("the caller went away")
		b = body("application/json", "")
		b.Encoding, b.Content = encoding, &breaks{strings.NewReader(whole[:5]), away}
		_, err = Items(b)
		require.ErrorIs(t, err, away)
	}
	b := body("application/json", `{"a": 1}`)
	b.Encoding = "br"
	_, err := Items(b)
	require.ErrorContains(t, err, `the Content-Encoding "br" is not known: bodies are packed as gzip or deflate here, or not at all`)
	b.Encoding, b.Content = "identity", strings.NewReader(`{"a": 1}`)
	_, err = Items(b)
	require.NoError(t, err)
}

func TestABodyThatBreaksOffSaysSo(t *testing.T) {
	t.Parallel()
	away := errors.New("the caller went away")
	for _, kind := range []string{"application/json", "multipart/form-data; boundary=edge", "text/plain"} {
		b := body(kind, "")
		b.Content = &breaks{strings.NewReader("--edge\r\nContent-Disp"), away}
		_, err := Items(b)
		require.ErrorIs(t, err, away, kind)
	}
	b := body("text/plain", strings.Repeat("x", 1<<20+1))
	var large *TooLarge
	_, err := Items(b)
	require.ErrorAs(t, err, &large)
	b = body("multipart/form-data; boundary=edge", fmt.Sprintf("--edge\r\nContent-Disposition: form-data; name=a\r\n\r\n%s\r\n--edge--\r\n", strings.Repeat("x", 1<<20+1)))
	_, err = Items(b)
	require.ErrorAs(t, err, &large)
}

// Whatever comes becomes items that can be stored, or is refused with words.
func FuzzItems(f *testing.F) {
	for _, kind := range []string{"application/json", "application/xml", "text/plain; charset=utf-16", "application/x-www-form-urlencoded", "multipart/form-data; boundary=edge", "image/png", "", "a/b/c", "multipart/form-data; boundary=\"\""} {
		for _, encoding := range []string{"", "gzip"} {
			f.Add(kind, encoding, []byte(form+"--edge--\r\n"))
			f.Add(kind, encoding, []byte(`{"a": [1, "\u0000"]}`))
			f.Add(kind, encoding, []byte(`<a b="1">x<c/></a>`))
			f.Add(kind, encoding, []byte("--edge\r\nContent-Disposition: form-data; name=a; filename=\"../../x\x00\"\r\nContent-Type: multipart/mixed; boundary=edge\r\n\r\n--edge--"))
		}
	}
	f.Fuzz(func(t *testing.T, kind, encoding string, content []byte) {
		files := kept{}
		got, err := Items(Body{ContentType: kind, Encoding: encoding, Content: bytes.NewReader(content), Files: files.save, MostBytes: 1 << 16, MostItems: 100})
		var unreadable *Unread
		var large *TooLarge
		if err != nil {
			require.True(t, errors.As(err, &unreadable) || errors.As(err, &large), "%v", err)
			require.NoError(t, item.CheckText(err.Error()))
			return
		}
		require.NotEmpty(t, got)
		for _, it := range got {
			text, err := item.Encode(it)
			require.NoError(t, err)
			again, err := item.Decode(text)
			require.NoError(t, err)
			require.Equal(t, any(it), again)
		}
	})
}

// Whoever keeps files may say that there is none after all: as a part of a form that was
// left empty.
func TestAFileThatIsNoneIsNoField(t *testing.T) {
	t.Parallel()
	none := func(string, string, io.Reader) (*item.File, error) { return nil, nil }
	for kind, content := range map[string]string{"application/octet-stream": "", "multipart/form-data; boundary=edge": "--edge\r\nContent-Disposition: form-data; name=\"picture\"; filename=\"\"\r\nContent-Type: application/octet-stream\r\n\r\n\r\n--edge--\r\n"} {
		got, err := Items(Body{ContentType: kind, Content: strings.NewReader(content), Files: none, MostBytes: 1000, MostItems: 1})
		require.NoError(t, err, kind)
		require.Equal(t, []map[string]any{{}}, got, kind)
	}
}

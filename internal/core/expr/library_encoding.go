package expr

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/csv"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"
	"unicode/utf8"

	"github.com/google/uuid"

	"youngtrellis/internal/core/item"
)

var encodingFunctions = group("encodings",
	fn("json(value: any) text", "A value as JSON text (RFC 8259).", `json({"a": [1, nil]})`, `"{\"a\":[1,null]}"`, func(m *machine, a args) (any, error) {
		if err := m.written(0, a[0]); err != nil {
			return nil, err
		}
		b, err := item.Encode(settle(a[0]))
		return string(b), err
	}, costs(32), takesNothing, found("stringify serialize object to text")),
	fn("from_json(text: text) any", "The value that JSON text holds.", `from_json("[1, 2]")`, `[1,2]`, func(m *machine, a args) (any, error) {
		if err := m.charge(0, 16*len(a.text(0))); err != nil {
			return nil, err
		}
		return item.Decode([]byte(a.text(0)))
	}, costs(16), fails("the text is no JSON"), found("parse json text to object")),
	fn("csv(list: list, separator?: text) text", "A list of objects as CSV (RFC 4180): a first row with all their names, and one row for each. Lists of values become rows as they are.", `csv([{"cone": 9, "piece": "Jug, tall"}])`, `"cone,piece\r\n9,\"Jug, tall\"\r\n"`, toCSV, costs(64), takes(6), takesNothing, fails("the separator is not one sign, or an element is neither an object nor a list"), found("spreadsheet export comma separated table file")),
	fn("from_csv(text: text, separator?: text) list", "The rows of CSV text (RFC 4180) as objects, with the names of the first row; the separator is found among , ; tab and | unless given.", `from_csv("cone;piece\n9;Jug")`, `[{"cone":"9","piece":"Jug"}]`, fromCSV, costs(32), takes(8), fails("a row has more fields than the first, or a quote is not closed"), found("spreadsheet import parse comma separated table rows")),
	fn("query(object: object) text", "An object as the query of an address (RFC 3986): a list several times, nothing not at all.", `query({"cone": 9, "note": "ash & sand"})`, `"cone=9&note=ash%20%26%20sand"`, formText("%20"), fails("a field is an object"), found("query string parameters url build")),
	fn("form(object: object) text", "An object as a web form sends it (application/x-www-form-urlencoded).", `form({"cone": 9, "note": "ash & sand"})`, `"cone=9&note=ash+%26+sand"`, formText("+"), fails("a field is an object"), found("urlencoded body post")),
	fn("base64(text: text) text", "Text in base64 (RFC 4648).", `base64("kiln")`, `"a2lsbg=="`, text1(func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) }), found("encode binary")),
	fn("from_base64(text: text) text", "Text out of base64, either alphabet.", `from_base64("a2lsbg==")`, `"kiln"`, func(_ *machine, a args) (any, error) {
		s := strings.TrimRight(eitherAlphabet.Replace(a.text(0)), "=")
		b, err := base64.RawStdEncoding.DecodeString(s)
		if err != nil {
			return nil, fmt.Errorf("%s is not base64", show(a.text(0)))
		}
		return asText(b)
	}, fails("it is not base64, or what it holds is no text"), found("decode")),
	fn("url_encode(text: text) text", "Text as a part of an address (RFC 3986).", `url_encode("ash & sand")`, `"ash%20%26%20sand"`, text1(func(s string) string { return spaced(url.QueryEscape(s)) }), found("percent encode escape")),
	fn("url_decode(text: text) text", "Text out of a part of an address.", `url_decode("ash%20%26%20sand")`, `"ash & sand"`, func(_ *machine, a args) (any, error) {
		s, err := url.PathUnescape(a.text(0))
		if err != nil {
			return nil, fmt.Errorf("%s is not so written: a %% must be followed by two signs of 0 to 9 and a to f", show(a.text(0)))
		}
		return asText([]byte(s))
	}, fails("a % stands alone, or what it holds is no text"), found("percent decode unescape")),
	fn("hex(text: text) text", "The bytes of a text in hexadecimal.", `hex("Az")`, `"417a"`, text1(func(s string) string { return hex.EncodeToString([]byte(s)) }), found("hexadecimal encode")),
	fn("from_hex(text: text) text", "Text out of hexadecimal.", `from_hex("417a")`, `"Az"`, func(_ *machine, a args) (any, error) {
		b, err := hex.DecodeString(strings.TrimSpace(a.text(0)))
		if err != nil {
			return nil, fmt.Errorf("%s is not hexadecimal", show(a.text(0)))
		}
		return asText(b)
	}, fails("it is not hexadecimal, or what it holds is no text"), found("hexadecimal decode")),
	fn("hash(text: text) text", "SHA-256 in hexadecimal.", `left(hash("kiln"), 8)`, `"cdfe9ad5"`, text1(func(s string) string {
		sum := sha256.Sum256([]byte(s))
		return hex.EncodeToString(sum[:])
	}), found("sha256 checksum digest fingerprint")),
	fn("hmac(text: text, connection: text) text", "The code of a text (HMAC-SHA-256, RFC 2104) in hexadecimal, with the key, token or password of a connection, whose name stands here in quotes.", `len(hmac("firing 17", "studio"))`, `64`, func(m *machine, a args) (any, error) {
		if m.scope.Signer == nil {
			return nil, errors.New("a code is made only while a workflow runs or is rehearsed")
		}
		code, err := m.scope.Signer.Sign(a.text(1), a.text(0))
		if err != nil {
			m.broken = brokenBy(err)
			return nil, err
		}
		return hex.EncodeToString(code), nil
	}, fails("the connection has no key, token or password of its own"), found("sign signature secret authentication code sha256 webhook"), byOthers),
	fn("uuid() text", "An identifier made from the run, step and item, so that it is the same when the step is repeated.", `len(uuid())`, `36`, func(m *machine, _ args) (any, error) {
		m.uuids++
		return uuid.NewSHA1(uuid.NameSpaceOID, fmt.Appendf(nil, "%s/%s/%d", m.scope.seed(), m.source, m.uuids)).String(), nil
	}, found("random id identifier unique guid")),
	fn("mime_type(name: text) text", "The media type of a file by the end of its name; application/octet-stream where that tells nothing.", `mime_type("memo.wav")`, `"audio/wav"`, func(_ *machine, a args) (any, error) { return mediaType(a.text(0)), nil }, found("content type file extension")),
)

var eitherAlphabet = strings.NewReplacer("-", "+", "_", "/", "\n", "", "\r", "")

func asText(b []byte) (any, error) {
	if !utf8.Valid(b) {
		return nil, errors.New("what it holds is no text: the bytes are not UTF-8")
	}
	return string(b), nil
}

func separatorOf(s string) (rune, error) {
	if s == `\t` {
		s = "\t"
	}
	r, n := utf8.DecodeRuneInString(s)
	if n != len(s) || r == '"' || r == '\n' || r == '\r' || r == utf8.RuneError {
		return 0, fmt.Errorf("the separator is one sign, not %s", show(s))
	}
	return r, nil
}

func toCSV(m *machine, a args) (any, error) {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	w.UseCRLF = true
	if a.text(1) != "" {
		r, err := separatorOf(a.text(1))
		if err != nil {
			return nil, err
		}
		w.Comma = r
	}
	var names []string
	seen := map[string]bool{}
	for _, e := range a.list(0) {
		if o, ok := e.(map[string]any); ok {
			for _, k := range keysOf(o) {
				if !seen[k] {
					seen[k] = true
					names = append(names, k)
				}
			}
		}
	}
	if len(names) > 0 {
		if err := w.Write(names); err != nil {
			return nil, err
		}
	}
	for i, e := range a.list(0) {
		if err := m.written(0, e); err != nil {
			return nil, err
		}
		var row []string
		switch e := e.(type) {
		case map[string]any:
			for _, k := range names {
				row = append(row, Text(e[k]))
			}
		case []any:
			for _, v := range e {
				row = append(row, Text(v))
			}
		default:
			return nil, fmt.Errorf("element %d is %s; rows are objects or lists", i+1, show(e))
		}
		if err := w.Write(row); err != nil {
			return nil, err
		}
	}
	w.Flush()
	return out.String(), nil
}

func fromCSV(m *machine, a args) (any, error) {
	s := strings.TrimPrefix(a.text(0), "\ufeff")
	r := csv.NewReader(strings.NewReader(s))
	r.FieldsPerRecord, r.TrimLeadingSpace = -1, false
	if a.text(1) != "" {
		c, err := separatorOf(a.text(1))
		if err != nil {
			return nil, err
		}
		r.Comma = c
	} else {
		first, _, _ := strings.Cut(s, "\n")
		most := 0
		for _, c := range ",;\t|" {
			if n := strings.Count(first, string(c)); n > most {
				most, r.Comma = n, c
			}
		}
	}
	var names []string
	out := []any{}
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			var at *csv.ParseError
			if errors.As(err, &at) {
				return nil, fmt.Errorf("line %d of the CSV: a quote stands where none belongs, or is not closed; a quote within a field is written \"\" in a field within quotes", at.Line)
			}
			return nil, errors.New("the CSV cannot be read")
		}
		if names == nil {
			for i := range row {
				row[i] = strings.TrimSpace(row[i])
			}
			names = columnNames(row)
			continue
		}
		if len(row) > len(names) {
			line, _ := r.FieldPos(0)
			return nil, fmt.Errorf("line %d of the CSV has %d fields, and the first row names %d", line, len(row), len(names))
		}
		if err := errors.Join(m.step(0), m.charge(0, 48*len(names))); err != nil {
			return nil, err
		}
		o := make(map[string]any, len(names))
		for i, name := range names {
			if i < len(row) {
				o[name] = row[i]
			} else {
				o[name] = ""
			}
		}
		out = append(out, o)
	}
}

// mediaTypes are those of files that people send each other, by the end of their
// names (IANA's registry).
var mediaTypes = map[string]string{
	"txt": "text/plain", "csv": "text/csv", "tsv": "text/tab-separated-values", "md": "text/markdown", "html": "text/html", "htm": "text/html", "ics": "text/calendar", "vcf": "text/vcard", "css": "text/css", "vtt": "text/vtt",
	"json": "application/json", "ndjson": "application/x-ndjson", "xml": "application/xml", "yaml": "application/yaml", "yml": "application/yaml", "pdf": "application/pdf", "zip": "application/zip", "gz": "application/gzip", "rtf": "application/rtf", "js": "text/javascript", "srt": "application/x-subrip",
	"doc": "application/msword", "docx": "application/vnd.openxmlformats-officedocument.wordprocessingml.document", "xls": "application/vnd.ms-excel", "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", "ppt": "application/vnd.ms-powerpoint", "pptx": "application/vnd.openxmlformats-officedocument.presentationml.presentation", "odt": "application/vnd.oasis.opendocument.text", "ods": "application/vnd.oasis.opendocument.spreadsheet", "epub": "application/epub+zip", "eml": "message/rfc822",
	"png": "image/png", "jpg": "image/jpeg", "jpeg": "image/jpeg", "gif": "image/gif", "webp": "image/webp", "svg": "image/svg+xml", "tif": "image/tiff", "tiff": "image/tiff", "bmp": "image/bmp", "heic": "image/heic", "avif": "image/avif", "ico": "image/vnd.microsoft.icon",
	"mp3": "audio/mpeg", "wav": "audio/wav", "ogg": "audio/ogg", "oga": "audio/ogg", "m4a": "audio/mp4", "flac": "audio/flac", "opus": "audio/ogg", "mp4": "video/mp4", "mov": "video/quicktime", "webm": "video/webm", "avi": "video/x-msvideo", "mkv": "video/matroska",
}

func mediaType(name string) string {
	if i := strings.LastIndexByte(name, '.'); i >= 0 {
		if t, ok := mediaTypes[strings.ToLower(strings.TrimSpace(name[i+1:]))]; ok {
			return t
		}
	}
	return "application/octet-stream"
}

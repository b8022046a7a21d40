package expr

import (
	"errors"
	"fmt"
	"math"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/hbollon/go-edlib"
)

// similarity is one less the share of edits (Levenshtein) that make one text of
// the other, to four places.
func similarity(m *machine, a args) (any, error) {
	s, t := a.text(0), a.text(1)
	n, o := utf8.RuneCountInString(s), utf8.RuneCountInString(t)
	longer := max(n, o)
	if longer == 0 || s == t {
		return int64(1), nil
	}
	if err := errors.Join(m.work(0, n*o/64), m.charge(0, 8*longer)); err != nil {
		return nil, err
	}
	share := 1 - float64(edlib.LevenshteinDistance(s, t))/float64(longer)
	if share = math.Round(share*1e4) / 1e4; isWhole(share) {
		return int64(share), nil
	}
	return share, nil
}

// chunkText cuts a text between words where a piece has room for one.
func chunkText(m *machine, a args) (any, error) {
	s, size, overlap := strings.TrimSpace(a.text(0)), bounded(a.whole(1, 0)), bounded(a.whole(2, 0))
	if size < 1 {
		return nil, errors.New("the size is at least 1")
	}
	if overlap < 0 || overlap > size/2 {
		return nil, fmt.Errorf("the overlap lies between 0 and %d, half of the size", size/2)
	}
	if err := m.charge(0, 48*len(s)); err != nil {
		return nil, err
	}
	signs := spread(s)
	var out []string
	for at := 0; at < len(signs); {
		end := min(at+size, len(signs))
		if end < len(signs) {
			if i := lastBlank(signs[at:min(end+1, len(signs))]); i > overlap {
				end = at + i
			}
		}
		if piece := strings.TrimSpace(strings.Join(signs[at:end], "")); piece != "" {
			if err := m.charge(0, len(piece)); err != nil {
				return nil, err
			}
			out = append(out, piece)
		}
		if end == len(signs) {
			break
		}
		at = end - overlap
	}
	return texts(m, out)
}

func lastBlank(signs []string) int {
	for i := len(signs) - 1; i >= 0; i-- {
		if strings.TrimSpace(signs[i]) == "" {
			return i
		}
	}
	return -1
}

// tokenPieces reads a text as pieces about as models cut it: a word in pieces of
// four letters, digits in threes, other signs and letters of scripts without
// blanks one by one. It gives where each piece ends.
func tokenPieces(s string, yield func(end int) bool) {
	run, kind, limit := 0, 0, 0
	for i, r := range s {
		k, most := 0, 1
		switch {
		case unicode.IsSpace(r):
			k = 1
		case unicode.IsDigit(r):
			k, most = 2, 3
		case unicode.IsLetter(r) && r < 0x0600:
			k, most = 3, 6
			if r >= utf8.RuneSelf {
				most = 3
			}
		}
		if run > 0 && (k != kind || k == 0 || run >= limit && k != 1) {
			if kind != 1 && !yield(i) {
				return
			}
			run = 0
		}
		if run == 0 {
			limit = most
		}
		run, kind, limit = run+1, k, min(limit, most)
	}
	if run > 0 && kind != 1 {
		yield(len(s))
	}
}

func tokenCount(s string) (n int) {
	tokenPieces(s, func(int) bool { n++; return true })
	return n
}

func truncateTokens(_ *machine, a args) (any, error) {
	s, most := a.text(0), bounded(a.whole(1, 0))
	if most < 1 {
		return nil, errors.New("the tokens are at least 1")
	}
	n, at := 0, 0
	cutOff := false
	tokenPieces(s, func(end int) bool {
		if n++; n > most {
			cutOff = true
			return false
		}
		if n < most {
			at = end
		}
		return true
	})
	if !cutOff {
		return s, nil
	}
	head := s[:at]
	if at < len(s) && !unicode.IsSpace(rune(s[at])) { // not within a word
		if i := strings.LastIndexFunc(head, unicode.IsSpace); i > 0 {
			head = head[:i]
		}
	}
	return strings.TrimRightFunc(head, unicode.IsSpace) + " …", nil
}

var (
	// A line, or two, that introduces what is quoted, in the words of mail programs
	// of several languages.
	introduces = regexp.MustCompile(`(?is)^\W{0,3}(on|am|le|el|em|il|op|den|dne|dnia|w dniu|vào|el día|no dia)\b.{1,240}?(wrote|schrieb|a écrit|escribió|escreveu|ha scritto|schreef|skrev|napsal|napisał|kirjoitti|viết)[^\n]{0,80}:\s*$`)
	original   = regexp.MustCompile(`(?i)^\s*[-_]{2,}\s*(original message|ursprüngliche nachricht|message d'origine|mensaje original|mensagem original|messaggio originale|oorspronkelijk bericht|forwarded message|weitergeleitete nachricht)\s*[-_]{2,}\s*$`)
	headed     = regexp.MustCompile(`(?i)^\*?(from|von|de|da|van|från|fra)\s*:\*?\s*\S`)
	sentLine   = regexp.MustCompile(`(?i)^\*?(sent|gesendet|envoyé|enviado|inviato|verzonden|skickat|sendt|date|datum|fecha|data)\s*:`)
)

// withoutQuoted takes out of a mail's text what it quotes. What was written
// between and below quotes stays.
func withoutQuoted(s string) string {
	lines := strings.Split(strings.ReplaceAll(s, "\r\n", "\n"), "\n")
	var kept []string
	for i := 0; i < len(lines); i++ {
		line := lines[i]
		if original.MatchString(line) || headed.MatchString(line) && i+1 < len(lines) && sentLine.MatchString(lines[i+1]) {
			break // all below it is the older mail
		}
		if n := introduction(lines[i:]); n > 0 {
			i += n - 1
			continue
		}
		if strings.HasPrefix(strings.TrimLeft(line, " \t"), ">") {
			continue
		}
		kept = append(kept, strings.TrimRight(line, " \t"))
	}
	var out []string
	for _, line := range kept {
		if line != "" || len(out) > 0 && out[len(out)-1] != "" {
			out = append(out, line)
		}
	}
	return strings.TrimSpace(strings.Join(out, "\n"))
}

// introduction counts the lines that introduce a quote; 0 where none does.
func introduction(lines []string) int {
	for n := 1; n <= min(3, len(lines)); n++ {
		if !introduces.MatchString(strings.Join(lines[:n], "\n")) {
			continue
		}
		for _, next := range lines[n:] {
			if next = strings.TrimLeft(next, " \t"); next != "" {
				if strings.HasPrefix(next, ">") {
					return n
				}
				return 0
			}
		}
		return n
	}
	return 0
}

// The alphabet of text messages (3GPP TS 23.038, 6.2.1), and what takes two
// signs of it.
const (
	smsAlphabet = "@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞÆæßÉ !\"#¤%&'()*+,-./0123456789:;<=>?¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§¿abcdefghijklmnopqrstuvwxyzäöñüà"
	smsDouble   = "\f^{}\\[~]|€"
)

func smsSegments(s string) int {
	n, plain := 0, true
	for _, r := range s {
		switch {
		case strings.ContainsRune(smsAlphabet, r):
			n++
		case strings.ContainsRune(smsDouble, r):
			n += 2
		default:
			plain = false
		}
	}
	one, each := 160, 153
	if !plain {
		n, one, each = len(utf16.Encode([]rune(s))), 70, 67
	}
	switch {
	case n == 0:
		return 0
	case n <= one:
		return 1
	}
	return (n + each - 1) / each
}

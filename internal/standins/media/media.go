// Package media makes the sounds and pictures of Ottermere. What is spoken or
// written in them is carried in their metadata, from which the stand-ins for
// speech and pictures read it: they work from what is really in the input.
package media

import (
	"bytes"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"strings"

	"golang.org/x/image/font"
	"golang.org/x/image/font/basicfont"
	"golang.org/x/image/math/fixed"
)

// rate of the memos, in samples a second of one byte each.
const rate = 8000

// Memo makes a spoken memo: a WAV file of so many seconds that carries its text.
func Memo(text string, seconds int) []byte {
	comment := append([]byte(text), 0)
	if len(comment)%2 == 1 {
		comment = append(comment, 0)
	}
	list := append([]byte("INFOICMT"), binary.LittleEndian.AppendUint32(nil, uint32(len(comment)))...)
	list = append(list, comment...)
	samples := seconds * rate
	var b bytes.Buffer
	word := func(n uint32) { b.Write(binary.LittleEndian.AppendUint32(nil, n)) }
	half := func(n uint16) { b.Write(binary.LittleEndian.AppendUint16(nil, n)) }
	b.WriteString("RIFF")
	word(uint32(4 + 24 + 8 + len(list) + 8 + samples))
	b.WriteString("WAVEfmt ")
	word(16)
	half(1)
	half(1)
	word(rate)
	word(rate)
	half(1)
	half(8)
	b.WriteString("LIST")
	word(uint32(len(list)))
	b.Write(list)
	b.WriteString("data")
	word(uint32(samples))
	for i := range samples { // a quiet hum, so that it is not silence
		b.WriteByte(byte(128 + (i%80)/20))
	}
	return b.Bytes()
}

// Spoken reads the text and the length of a memo.
func Spoken(b []byte) (text string, seconds float64, err error) {
	if len(b) < 12 || string(b[:4]) != "RIFF" || string(b[8:12]) != "WAVE" {
		return "", 0, errors.New("this is not a WAV file")
	}
	bytesPerSecond := uint32(rate)
	for at := 12; at+8 <= len(b); {
		size := int(binary.LittleEndian.Uint32(b[at+4:]))
		body := b[at+8 : min(len(b), at+8+size)]
		switch string(b[at : at+4]) {
		case "fmt ":
			if len(body) >= 12 {
				bytesPerSecond = binary.LittleEndian.Uint32(body[8:])
			}
		case "LIST":
			if i := bytes.Index(body, []byte("ICMT")); i >= 0 && i+8 <= len(body) {
				n := int(binary.LittleEndian.Uint32(body[i+4:]))
				text = strings.TrimRight(string(body[i+8:min(len(body), i+8+n)]), "\x00")
			}
		case "data":
			if bytesPerSecond > 0 {
				seconds = float64(size) / float64(bytesPerSecond)
			}
		}
		at += 8 + size + size%2
	}
	return text, seconds, nil
}

// Card makes a picture of a handwritten card that carries its text.
func Card(text string) []byte {
	lines := strings.Split(text, "\n")
	m := image.NewRGBA(image.Rect(0, 0, 420, 60+26*len(lines)))
	draw.Draw(m, m.Bounds(), image.NewUniform(color.RGBA{0xfb, 0xf6, 0xe8, 0xff}), image.Point{}, draw.Src)
	for i, line := range lines {
		y := 50 + 26*i
		for x := 20; x < 400; x++ {
			m.Set(x, y+4, color.RGBA{0xd8, 0xd0, 0xbc, 0xff})
		}
		d := font.Drawer{Dst: m, Src: image.NewUniform(color.RGBA{0x23, 0x2c, 0x5e, 0xff}), Face: basicfont.Face7x13, Dot: fixed.P(26+(i%3)*2, y)}
		d.DrawString(line)
	}
	var b bytes.Buffer
	_ = png.Encode(&b, m)
	plain := b.Bytes()
	chunk := append([]byte("tEXtComment\x00"), text...)
	extra := binary.BigEndian.AppendUint32(nil, uint32(len(chunk)-4))
	extra = append(extra, chunk...)
	extra = binary.BigEndian.AppendUint32(extra, crc32.ChecksumIEEE(chunk))
	end := len(plain) - 12 // before IEND
	return append(append(append([]byte(nil), plain[:end]...), extra...), plain[end:]...)
}

// Written reads the text of a picture.
func Written(b []byte) (string, error) {
	if len(b) < 8 || string(b[1:4]) != "PNG" {
		return "", errors.New("this is not a PNG picture")
	}
	for at := 8; at+12 <= len(b); {
		size := int(binary.BigEndian.Uint32(b[at:]))
		if at+12+size > len(b) {
			break
		}
		if string(b[at+4:at+8]) == "tEXt" {
			if name, text, ok := strings.Cut(string(b[at+8:at+8+size]), "\x00"); ok && name == "Comment" {
				return text, nil
			}
		}
		at += 12 + size
	}
	return "", errors.New("nothing is written in this picture")
}

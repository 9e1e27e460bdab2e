package out

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"strings"
	"unicode/utf8"
)

// A Writer lets no control character through to a terminal but newlines and tabs: what
// outsiders can write into paths, names and messages stays text. It is shown as \u001b,
// which means the same in JSON.
type Writer struct {
	w         io.Writer
	partial   []byte // the beginning of a character
	isPainted bool
}

// Escaping is a Writer in front of w.
func Escaping(w io.Writer) *Writer { return &Writer{w: w} }

// File is the file that w writes to, with or without a Writer before it; nil: none.
func File(w io.Writer) *os.File {
	if e, isEscaping := w.(*Writer); isEscaping {
		w = e.w
	}
	f, _ := w.(*os.File)
	return f
}

// Exact is where text goes that must stay as it is, such as that of a file: w itself,
// unless it is a terminal.
func Exact(w io.Writer) io.Writer {
	if e, isEscaping := w.(*Writer); isEscaping {
		if f := File(w); f == nil || !isTerminal(f) {
			return e.w
		}
	}
	return w
}

// Screen is where a program draws that moves the cursor itself. What comes from others
// must have gone through Escape.
func Screen(w io.Writer) io.Writer {
	if e, isEscaping := w.(*Writer); isEscaping {
		return e.w
	}
	return w
}

// Write writes text with its control characters escaped.
func (e *Writer) Write(p []byte) (int, error) {
	text := append(e.partial, p...)
	e.partial = nil
	if cut := len(text) - incomplete(text); cut < len(text) {
		text, e.partial = text[:cut], bytes.Clone(text[cut:])
	}
	if _, err := e.w.Write(e.escape(text)); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Escape is text with its control characters escaped.
func Escape(text []byte) []byte { return (&Writer{}).escape(text) }

// incomplete is how many bytes at the end of text begin a character without ending it.
func incomplete(text []byte) int {
	for n := 1; n <= min(utf8.UTFMax-1, len(text)); n++ {
		if b := text[len(text)-n]; utf8.RuneStart(b) {
			if b >= utf8.RuneSelf && !utf8.FullRune(text[len(text)-n:]) {
				return n
			}
			return 0
		}
	}
	return 0
}

func (e *Writer) escape(text []byte) []byte {
	if !bytes.ContainsFunc(text, isControl) {
		return text
	}
	out := make([]byte, 0, len(text)+64)
	for len(text) > 0 {
		if n := e.paint(&out, text); n > 0 {
			text = text[n:]
			continue
		}
		r, size := utf8.DecodeRune(text)
		switch {
		case r == utf8.RuneError && size == 1:
			out = fmt.Appendf(out, `\x%02x`, text[0])
		case isControl(r):
			out = fmt.Appendf(out, `\u%04x`, r)
		default:
			out = append(out, text[:size]...)
		}
		text = text[size:]
	}
	return out
}

// isControl tells whether a character moves the cursor, changes how a terminal works or
// what is read where. Bytes that are no character are among them.
func isControl(r rune) bool {
	switch {
	case r == '\n' || r == '\t':
		return false
	case r < 0x20, r >= 0x7f && r < 0xa0, r == utf8.RuneError:
		return true
	}
	return r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 // they turn the direction of text
}

// Colours of our own carry a number that nobody else knows, so that they pass a Writer.
var paintKey = fmt.Sprint(100_000_000 + rand.IntN(900_000_000))

const reset = "\x1b[0m"

// Paint is text in a colour: the number of SGR, such as 31 for red.
func Paint(colour int, text string) string {
	return fmt.Sprintf("\x1b[%d;%sm%s%s", colour, paintKey, text, reset)
}

// Colours.
const (
	Red       = 31
	Yellow    = 33
	BrightRed = 91
)

// paint takes a colour of our own from the start of text, and returns its length; 0:
// there is none.
func (e *Writer) paint(out *[]byte, text []byte) int {
	if e.isPainted && bytes.HasPrefix(text, []byte(reset)) {
		e.isPainted = false
		*out = append(*out, reset...)
		return len(reset)
	}
	if !bytes.HasPrefix(text, []byte("\x1b[")) {
		return 0
	}
	end := bytes.IndexByte(text, 'm')
	if end < 0 {
		return 0
	}
	codes, isOurs := strings.CutSuffix(string(text[2:end]), ";"+paintKey)
	if !isOurs {
		return 0
	}
	e.isPainted = true
	*out = append(*out, "\x1b["+codes+"m"...)
	return end + 1
}

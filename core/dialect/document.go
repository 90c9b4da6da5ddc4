package dialect

import (
	"bytes"
	"encoding/json"
	"fmt"
)

// ReadDocument reads a JSON document of ours: whole, without fields that are not known. what
// is what it should be ("list"), and of what (" of portable rules"), in the error.
func ReadDocument(text []byte, what, of string, into any) error {
	dec := json.NewDecoder(bytes.NewReader(text))
	dec.DisallowUnknownFields()
	if err := dec.Decode(into); err != nil {
		return fmt.Errorf("this is no whole %s%s: %w", what, of, err)
	}
	if dec.More() {
		return fmt.Errorf("something follows behind the %s, at byte %d", what, dec.InputOffset())
	}
	return nil
}

// CheckDocument says whether a document that was read is of a kind, and of the version that
// this program reads.
func CheckDocument(is, kind string, version int) error {
	switch {
	case is != kind:
		return fmt.Errorf("its kind is %q, not %q", is, kind)
	case version != 1:
		return fmt.Errorf("it is of version %d; this program reads version 1", version)
	}
	return nil
}

// IsDocument says that a text is meant as a document of a kind.
func IsDocument(text []byte, kind string) bool {
	var d struct{ Kind string }
	return json.Unmarshal(text, &d) == nil && d.Kind == kind
}

// DocumentText is a document as a file.
func DocumentText(d any) string {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	_ = enc.Encode(d) // a document always has a JSON form
	return b.String()
}

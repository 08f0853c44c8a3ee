// Package signed signs calls over HTTP, and tells who signed one: HTTP Message Signatures (RFC 9421)
// by Ed25519, over the method, the path and query, and the digest of the body (RFC 9530). What is signed
// holds for one call, at one time: whoever keeps the nonces takes it once.
//
//	err := signed.Sign(r, body, signed.As{ID: id, Key: key, At: now})
//	c, err := signed.Read(r)
//	err = c.Check(r, public)
//	err = signed.CheckBody(r, body)
package signed

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/dunglas/httpsfv"
)

// ErrNotSigned is wrapped when a call is not signed, or not as is needed here.
var ErrNotSigned = errors.New("the call is not signed as it has to be")

const (
	label     = "woodlark"
	algorithm = "ed25519" // RFC 9421, 3.3.6
	digest    = "sha-256" // RFC 9530, section 5
	mostField = 2000
)

// components are what a signature covers.
var components = []string{"@method", "@path", "@query", "content-digest"}

// As is who signs, and when.
type As struct {
	ID  string
	Key ed25519.PrivateKey
	At  time.Time // by the clock of whoever is called
}

// Sign puts a signature and the digest of the body into a call. Each has a nonce of its own.
func Sign(r *http.Request, body []byte, as As) error {
	sum := sha256.Sum256(body)
	r.Header.Set("Content-Digest", digest+"=:"+base64.StdEncoding.EncodeToString(sum[:])+":")
	nonce := make([]byte, 16)
	_, _ = rand.Read(nonce)
	list := httpsfv.InnerList{Params: httpsfv.NewParams()}
	for _, c := range components {
		list.Items = append(list.Items, httpsfv.NewItem(c))
	}
	list.Params.Add("created", as.At.Unix())
	list.Params.Add("keyid", as.ID)
	list.Params.Add("alg", algorithm)
	list.Params.Add("nonce", base64.RawURLEncoding.EncodeToString(nonce))
	params, err := httpsfv.Marshal(httpsfv.List{list})
	if err != nil {
		return err
	}
	base, err := baseOf(r, list.Items, params)
	if err != nil {
		return err
	}
	r.Header.Set("Signature-Input", label+"="+params)
	r.Header.Set("Signature", label+"=:"+base64.StdEncoding.EncodeToString(ed25519.Sign(as.Key, base))+":")
	return nil
}

// baseOf is what is signed (RFC 9421, 2.5).
func baseOf(r *http.Request, items []httpsfv.Item, params string) ([]byte, error) {
	var b bytes.Buffer
	for _, item := range items {
		name, is := item.Value.(string)
		if !is || len(item.Params.Names()) > 0 {
			return nil, fmt.Errorf("%w: it covers what is not known here", ErrNotSigned)
		}
		var value string
		switch name {
		case "@method":
			value = r.Method
		case "@path":
			value = r.URL.EscapedPath()
		case "@query":
			value = "?" + r.URL.RawQuery
		case "content-digest":
			values := r.Header.Values("Content-Digest")
			if len(values) != 1 {
				return nil, fmt.Errorf("%w: it has no digest of its body, or several", ErrNotSigned)
			}
			value = strings.TrimSpace(values[0])
		default:
			return nil, fmt.Errorf("%w: it covers %q, which is not known here", ErrNotSigned, name[:min(len(name), 40)])
		}
		fmt.Fprintf(&b, "%q: %s\n", name, value)
	}
	fmt.Fprintf(&b, "%q: %s", "@signature-params", params)
	return b.Bytes(), nil
}

// Call is a signed call whose signature is not checked yet.
type Call struct {
	ID    string
	At    time.Time
	Nonce string

	params    string
	items     []httpsfv.Item
	signature []byte
}

// Is reports whether a call says that it is signed.
func Is(r *http.Request) bool { return r.Header.Get("Signature-Input") != "" }

// Read reads whose a call says to be. The error wraps ErrNotSigned.
func Read(r *http.Request) (c Call, err error) {
	input, found := r.Header.Values("Signature-Input"), r.Header.Values("Signature")
	if len(input) != 1 || len(found) != 1 || len(input[0]) > mostField || len(found[0]) > mostField {
		return c, fmt.Errorf("%w: it has no Signature and Signature-Input, or several", ErrNotSigned)
	}
	inputs, err := httpsfv.UnmarshalDictionary(input)
	if err != nil {
		return c, fmt.Errorf("%w: Signature-Input cannot be read", ErrNotSigned)
	}
	signatures, err := httpsfv.UnmarshalDictionary(found)
	if err != nil {
		return c, fmt.Errorf("%w: Signature cannot be read", ErrNotSigned)
	}
	one, _ := inputs.Get(label)
	list, isList := one.(httpsfv.InnerList)
	other, _ := signatures.Get(label)
	item, isItem := other.(httpsfv.Item)
	if !isList || !isItem {
		return c, fmt.Errorf("%w: it has no signature named %s", ErrNotSigned, label)
	}
	raw, isBytes := item.Value.([]byte)
	if !isBytes || len(raw) != ed25519.SignatureSize {
		return c, fmt.Errorf("%w: its signature is none of Ed25519", ErrNotSigned)
	}
	c.signature, c.items = raw, list.Items
	get := func(name string) any { v, _ := list.Params.Get(name); return v }
	created, hasTime := get("created").(int64)
	id, hasID := get("keyid").(string)
	nonce, hasNonce := get("nonce").(string)
	if !hasTime || !hasID || !hasNonce || len(nonce) < 16 || len(nonce) > 100 {
		return c, fmt.Errorf("%w: created, keyid and nonce have to be in it", ErrNotSigned)
	}
	if alg := get("alg"); alg != nil && alg != algorithm {
		return c, fmt.Errorf("%w: it is signed by another algorithm than Ed25519", ErrNotSigned)
	}
	if expires, is := get("expires").(int64); is && time.Unix(expires, 0).Before(time.Unix(created, 0)) {
		return c, fmt.Errorf("%w: it ended before it was made", ErrNotSigned)
	}
	c.ID, c.At, c.Nonce = id, time.Unix(created, 0), nonce
	if c.params, err = httpsfv.Marshal(httpsfv.List{list}); err != nil {
		return c, fmt.Errorf("%w: Signature-Input cannot be read", ErrNotSigned)
	}
	return c, nil
}

// Check holds the signature against a key: it has to cover all that is covered by Sign. The error
// wraps ErrNotSigned.
func (c Call) Check(r *http.Request, key ed25519.PublicKey) error {
	for _, name := range components {
		if !slices.ContainsFunc(c.items, func(i httpsfv.Item) bool { return i.Value == name }) {
			return fmt.Errorf("%w: its signature does not cover %s", ErrNotSigned, name)
		}
	}
	base, err := baseOf(r, c.items, c.params)
	if err != nil {
		return err
	}
	if len(key) != ed25519.PublicKeySize || !ed25519.Verify(key, base, c.signature) {
		return fmt.Errorf("%w: its signature does not fit", ErrNotSigned)
	}
	return nil
}

// CheckBody holds the body of a call against the digest in it, which Check has found to be signed.
// The error wraps ErrNotSigned.
func CheckBody(r *http.Request, body []byte) error {
	list, err := httpsfv.UnmarshalDictionary(r.Header.Values("Content-Digest"))
	if err != nil {
		return fmt.Errorf("%w: Content-Digest cannot be read", ErrNotSigned)
	}
	member, _ := list.Get(digest)
	item, _ := member.(httpsfv.Item)
	said, is := item.Value.([]byte)
	sum := sha256.Sum256(body)
	if !is || subtle.ConstantTimeCompare(said, sum[:]) != 1 {
		return fmt.Errorf("%w: its body is another than was signed", ErrNotSigned)
	}
	return nil
}

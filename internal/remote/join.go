package remote

import (
	"context"
	"crypto/ed25519"
	"crypto/x509"
	"net/http"

	"woodlark.example/internal/ident"
)

// Join spends an invite. trust and pin are for Link.
func Join(ctx context.Context, base, code string, a JoinRequest, trust *x509.CertPool, pin string) (JoinAnswer, error) {
	a.Code = code
	l := &Link{Base: base, Trust: trust, Pin: pin}
	var answer JoinAnswer
	var err error
	for range Places(base) { // one that is not there is left for the next
		was := l.at.Load()
		if err = l.call(ctx, http.MethodPost, "/join", a, &answer); err == nil || l.at.Load() == was {
			break
		}
	}
	return answer, err
}

// SignFromNow has the service go by a signature from now on. The error wraps ErrLockedOut when it does
// not know the key that the link shows.
func (l *Link) SignFromNow(ctx context.Context, public []byte) error {
	return l.call(ctx, http.MethodPost, "/key", KeyOrder{public}, nil)
}

// signsAnew has a service that knows the former key go by the signature from now on. It reports
// whether it does.
func (l *Link) signsAnew(ctx context.Context) bool {
	if l.Former == "" || l.Signs == nil {
		return false
	}
	before := &Link{Base: l.Base, Key: l.Former, Log: l.Log, Trust: l.Trust, Pin: l.Pin}
	before.at.Store(l.at.Load())
	return before.SignFromNow(ctx, l.Signs.Public().(ed25519.PublicKey)) == nil
}

// JoinRequest is what an agent says of itself when it joins.
type JoinRequest struct {
	Code    string `json:"code"`
	Name    string `json:"name"`
	Site    string `json:"site"`
	Labels  string `json:"labels"`
	Version string `json:"version"`
	// PublicKey is that by which it signs (Ed25519); empty for one that shows a key.
	PublicKey []byte `json:"public_key,omitempty"`
}

// KeyOrder has an agent sign from now on.
type KeyOrder struct {
	PublicKey []byte `json:"public_key"`
}

// JoinAnswer is what it gets.
type JoinAnswer struct {
	ID   ident.ID `json:"id"`
	Name string   `json:"name"`
	Site string   `json:"site"`
	Key  string   `json:"key,omitempty"` // that it shows; none for one that signs
}

package apitype

// DossierKey is the key that dossiers are signed with.
type DossierKey struct {
	Fingerprint string `json:"fingerprint" doc:"SHA-256 of the public key"`
	Public      []byte `json:"public_key" doc:"Ed25519 (RFC 8032)"`
}

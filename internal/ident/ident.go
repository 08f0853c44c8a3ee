// Package ident holds the identifiers of records: UUIDs of version 7 (RFC 9562
// §5.7), made where the record is made, kept as 16 bytes in the database.
package ident

import (
	"database/sql/driver"
	"fmt"

	"github.com/google/uuid"
)

// ID identifies a record. The zero value identifies none.
type ID uuid.UUID

// New makes an identifier that sorts after those made before it.
func New() ID { return ID(uuid.Must(uuid.NewV7())) }

// Parse reads an identifier in its usual form.
func Parse(text string) (ID, error) {
	u, err := uuid.Parse(text)
	if err != nil {
		return ID{}, fmt.Errorf("identifier %q is not a UUID", text)
	}
	return ID(u), nil
}

func (id ID) String() string { return uuid.UUID(id).String() }

// IsZero reports whether the identifier identifies nothing.
func (id ID) IsZero() bool { return id == ID{} }

// MarshalText writes the usual form; nothing for the zero value.
func (id ID) MarshalText() ([]byte, error) {
	if id.IsZero() {
		return nil, nil
	}
	return []byte(id.String()), nil
}

// UnmarshalText reads what MarshalText wrote.
func (id *ID) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*id = ID{}
		return nil
	}
	parsed, err := Parse(string(text))
	*id = parsed
	return err
}

// Value gives the database 16 bytes; NULL for the zero value.
func (id ID) Value() (driver.Value, error) {
	if id.IsZero() {
		return nil, nil
	}
	return id[:], nil
}

// Scan reads 16 bytes or NULL.
func (id *ID) Scan(src any) error {
	switch b := src.(type) {
	case nil:
		*id = ID{}
	case []byte:
		if len(b) != len(id) {
			return fmt.Errorf("identifier of %d bytes", len(b))
		}
		copy(id[:], b)
	default:
		return fmt.Errorf("identifier from %T", src)
	}
	return nil
}

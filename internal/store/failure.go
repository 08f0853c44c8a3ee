package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"net"
	"strings"

	mysqldriver "github.com/go-sql-driver/mysql"
	"gorm.io/gorm"
)

// The errors that callers tell apart. What wraps them says in plain words what was being
// done; what the database itself said is not for everybody: see Cause.
var (
	// ErrNotFound is wrapped when there is no such record.
	ErrNotFound = errors.New("not found")
	// ErrTaken is wrapped when a name is in use already.
	ErrTaken = errors.New("is taken")
	// ErrAway is wrapped when the database does not answer or cannot write now: the same
	// may succeed later.
	ErrAway = errors.New("the database is away")
	// ErrFull is wrapped, beside ErrAway, when the database's disk is full.
	ErrFull = errors.New("its disk is full; free some space")
	// ErrUnfit is wrapped when the database will never take what it was given.
	ErrUnfit = errors.New("the database does not take this")
)

// failure is an error of the database: what was being done, of which kind it is, and what
// the database said.
type failure struct {
	doing string
	kinds []error
	cause error
}

func (f *failure) Error() string {
	text := f.doing
	for _, k := range f.kinds {
		text += ": " + k.Error()
	}
	return text
}

// Unwrap gives the kinds, and the cause.
func (f *failure) Unwrap() []error { return append(f.kinds[:len(f.kinds):len(f.kinds)], f.cause) }

// Cause is what the database itself said, for the log; empty when it said nothing.
func Cause(err error) string {
	var f *failure
	if errors.As(err, &f) && f.cause != nil {
		return f.cause.Error()
	}
	return ""
}

const (
	duplicateKey = 1062
	deadlock     = 1213
	lockWait     = 1205
)

// ofTime are errors of the moment, by their numbers; the words are for people.
var ofTime = map[uint16]error{
	lockWait: errors.New("somebody holds the same records"),
	deadlock: errors.New("somebody writes the same records"),
	1021:     ErrFull,
	1114:     ErrFull,
	1040:     errors.New("it has too many connections"),
	1203:     errors.New("it has too many connections"),
	1047:     errors.New("it is a node that is not part of its cluster now"),
	1053:     errors.New("it is being stopped"),
	1290:     errors.New("it refuses writes"),
	1792:     errors.New("it refuses writes"),
	1836:     errors.New("it refuses writes"),
	1317:     errors.New("it was interrupted"),
	1927:     errors.New("it was interrupted"),
	1969:     errors.New("it took too long"),
	3:        ErrFull, // of writing a file
	28:       ErrFull,
}

// ofData are errors that come again each time.
var ofData = map[uint16]bool{
	1406: true, // too long
	1264: true, // out of range
	1292: true, // no such time
	1366: true, // no such character
	1048: true, // missing
	1265: true, // truncated
	1153: true, // too large a packet
	3140: true, // no JSON
}

var errSilent = errors.New("it does not answer")

// wrap says what was being done, and whether it was the database that failed.
func wrap(doing string, err error) error {
	if err == nil {
		return nil
	}
	var known *failure
	if errors.As(err, &known) {
		return err
	}
	f := &failure{doing: doing, cause: err}
	var refused *mysqldriver.MySQLError
	var network net.Error
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound), errors.Is(err, ErrNotFound):
		f.kinds = []error{ErrNotFound}
	case errors.Is(err, gorm.ErrDuplicatedKey), errors.Is(err, ErrTaken):
		f.kinds = []error{ErrTaken}
	case errors.Is(err, ErrChanged):
		f.kinds = []error{ErrChanged}
	case errors.Is(err, ErrInvite), errors.Is(err, ErrUnfit), errors.Is(err, ErrHeld):
		return fmt.Errorf("%s: %w", doing, err)
	case errors.As(err, &refused):
		now, away := ofTime[refused.Number]
		if strings.Contains(refused.Message, "No space left") || strings.Contains(refused.Message, "rrno: 28") || strings.Contains(refused.Message, "rrcode: 28") {
			now, away = ErrFull, true
		}
		switch {
		case refused.Number == duplicateKey:
			f.kinds = []error{ErrTaken}
		case away:
			f.kinds = []error{ErrAway, now}
		case ofData[refused.Number]:
			f.kinds = []error{ErrUnfit}
		default:
			f.kinds = []error{errors.New("the database refused it")}
		}
	case errors.Is(err, context.Canceled):
		f.kinds = []error{context.Canceled}
	case errors.Is(err, driver.ErrBadConn), errors.Is(err, mysqldriver.ErrInvalidConn), errors.As(err, &network), errors.Is(err, sql.ErrConnDone),
		errors.Is(err, context.DeadlineExceeded), errors.Is(err, ErrAway):
		f.kinds = []error{ErrAway, errSilent}
	default:
		f.kinds = []error{err}
	}
	return f
}

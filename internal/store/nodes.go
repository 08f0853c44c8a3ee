package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	mysqldriver "github.com/go-sql-driver/mysql"
)

// nodes are the servers of one database, of which one is spoken to at a time: all connections go
// there, so that what was written is read, and nobody's writes cross. It is left for the next one when
// it goes, when it is no part of its cluster any more, or when it takes no writes.
type nodes struct {
	list  []driver.Connector
	names []string

	mu    sync.Mutex
	at    int // the one that is spoken to
	turns int // how often it was left: connections of before are good no more
}

const connectTime = 3 * time.Second // for one of several

// hostsIn takes several hosts out of a database's name, such as user@tcp(a:3306,b:3306)/name, and leaves
// the first; there is one host, and nothing to take out, where there is no comma.
func hostsIn(dsn string) (first string, hosts []string) {
	slash := strings.LastIndexByte(dsn, '/')
	if slash < 0 {
		return dsn, nil
	}
	const before = "tcp("
	at := strings.LastIndexByte(dsn[:slash], '@') + 1
	if !strings.HasPrefix(dsn[at:slash], before) || dsn[slash-1] != ')' {
		return dsn, nil
	}
	open, end := at+len(before), slash-1
	if !strings.Contains(dsn[open:end], ",") {
		return dsn, nil
	}
	for _, h := range strings.Split(dsn[open:end], ",") {
		if h = strings.TrimSpace(h); h != "" {
			hosts = append(hosts, h)
		}
	}
	if len(hosts) == 0 {
		return dsn, nil
	}
	return dsn[:open] + hosts[0] + dsn[end:], hosts
}

// nodesOf are the servers that a database is spoken to at.
func nodesOf(config mysqldriver.Config, hosts []string) (*nodes, error) {
	if len(hosts) == 0 {
		hosts = []string{config.Addr}
	}
	n := &nodes{names: hosts}
	for _, h := range hosts {
		one := config.Clone()
		if one.Addr = h; len(hosts) > 1 && one.Net == "tcp" && !strings.Contains(h[strings.LastIndex(h, "]")+1:], ":") {
			one.Addr += ":3306"
		}
		c, err := mysqldriver.NewConnector(one)
		if err != nil {
			return nil, err
		}
		n.list = append(n.list, c)
	}
	return n, nil
}

// Connect opens a connection to the server that is spoken to, or to the next one that is fit.
func (n *nodes) Connect(ctx context.Context) (driver.Conn, error) {
	n.mu.Lock()
	first := n.at
	n.mu.Unlock()
	var errs []error
	for i := range n.list {
		k := (first + i) % len(n.list)
		c, err := n.connect(ctx, k)
		if err == nil {
			return c, nil
		}
		if len(n.list) == 1 {
			return nil, err
		}
		errs = append(errs, fmt.Errorf("%s: %w", n.names[k], err))
		if ctx.Err() != nil {
			break
		}
	}
	return nil, errors.Join(errs...)
}

func (n *nodes) connect(ctx context.Context, k int) (driver.Conn, error) {
	if len(n.list) > 1 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, connectTime)
		defer cancel()
	}
	raw, err := n.list[k].Connect(ctx)
	if err != nil {
		return nil, err
	}
	c, can := raw.(driverConn)
	if !can {
		_ = raw.Close()
		return nil, errors.New("the driver of the database lacks what this program needs")
	}
	if err := fit(ctx, c); err != nil {
		_ = raw.Close()
		return nil, err
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.at != k {
		n.at = k
		n.turns++
	}
	return &nodeConn{driverConn: c, of: n, turn: n.turns, at: k}, nil
}

// Driver is that of the connections.
func (n *nodes) Driver() driver.Driver { return n.list[0].Driver() }

// leave has the server left that a connection of a turn went to, once.
func (n *nodes) leave(turn int) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if turn == n.turns && len(n.list) > 1 {
		n.at = (n.at + 1) % len(n.list)
		n.turns++
	}
}

// leaveNow is leave for whoever knows that the server does not answer.
func (n *nodes) leaveNow() {
	n.mu.Lock()
	turn := n.turns
	n.mu.Unlock()
	n.leave(turn)
}

func (n *nodes) isNow(turn int) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return turn == n.turns
}

// errNotFit is that a node is not to be spoken to.
var errNotFit = fmt.Errorf("%w: it is a node that is not part of its cluster now", ErrAway)

// fit says whether a server is to be spoken to: any that is of no cluster; of a cluster one that is in
// its primary component and has all that the others have. Before it is, what the others took is waited
// for, so that whoever moves here reads what they wrote there.
func fit(ctx context.Context, c driver.QueryerContext) error {
	cluster, err := answerTo(ctx, c, "SELECT @@GLOBAL.wsrep_on, @@GLOBAL.wsrep_provider")
	const unknownVariable = 1193
	var refused *mysqldriver.MySQLError
	if errors.As(err, &refused) && refused.Number == unknownVariable {
		return nil // a server that was built without clusters
	}
	if err != nil {
		return err
	}
	if len(cluster) == 0 || cluster[0][0] != "1" || cluster[0][1] == "none" {
		return nil
	}
	states, err := answerTo(ctx, c, "SHOW GLOBAL STATUS WHERE Variable_name IN ('wsrep_ready', 'wsrep_cluster_status', 'wsrep_local_state')")
	if err != nil {
		return err
	}
	is := map[string]string{}
	for _, s := range states {
		is[strings.ToLower(s[0])] = s[1]
	}
	const synced, donor = "4", "2"
	if is["wsrep_ready"] != "ON" || is["wsrep_cluster_status"] != "Primary" || is["wsrep_local_state"] != synced && is["wsrep_local_state"] != donor {
		return errNotFit
	}
	for _, query := range []string{"SET SESSION wsrep_sync_wait = 1", "SELECT 1", "SET SESSION wsrep_sync_wait = 0"} {
		if _, err := answerTo(ctx, c, query); err != nil {
			return err
		}
	}
	return nil
}

// answerTo reads all rows of a query as text.
func answerTo(ctx context.Context, c driver.QueryerContext, query string) (list [][]string, err error) {
	rows, err := c.QueryContext(ctx, query, nil)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	values := make([]driver.Value, len(rows.Columns()))
	for {
		if err := rows.Next(values); err == io.EOF {
			return list, nil
		} else if err != nil {
			return nil, err
		}
		row := make([]string, len(values))
		for i, v := range values {
			switch x := v.(type) {
			case []byte:
				row[i] = string(x)
			default:
				row[i] = fmt.Sprint(x)
			}
		}
		list = append(list, row)
	}
}

// driverConn is all that a connection of the driver can.
type driverConn interface {
	driver.Conn
	driver.ConnBeginTx
	driver.ConnPrepareContext
	driver.ExecerContext
	driver.QueryerContext
	driver.Pinger
	driver.NamedValueChecker
	driver.SessionResetter
	driver.Validator
}

// nodeConn is a connection to the server that is spoken to; it is good no more once that is another.
type nodeConn struct {
	driverConn
	of   *nodes
	turn int
	at   int
}

// notHere are errors by which a server says that it is not the one to be spoken to.
var notHere = map[uint16]bool{
	1047: true, // a node that is no part of its cluster
	1053: true, // being stopped
	1290: true, // takes no writes
	1792: true,
	1836: true,
}

func (c *nodeConn) note(err error) error {
	var refused *mysqldriver.MySQLError
	if errors.As(err, &refused) && notHere[refused.Number] || errors.Is(err, mysqldriver.ErrInvalidConn) || errors.Is(err, driver.ErrBadConn) {
		c.of.leave(c.turn)
	}
	return err
}

// ExecContext carries a statement out.
func (c *nodeConn) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	r, err := c.driverConn.ExecContext(ctx, query, args)
	return r, c.note(err)
}

// QueryContext reads.
func (c *nodeConn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	r, err := c.driverConn.QueryContext(ctx, query, args)
	return r, c.note(err)
}

// BeginTx begins a transaction.
func (c *nodeConn) BeginTx(ctx context.Context, o driver.TxOptions) (driver.Tx, error) {
	tx, err := c.driverConn.BeginTx(ctx, o)
	if err != nil {
		return nil, c.note(err)
	}
	return &nodeTx{tx, c}, nil
}

type nodeTx struct {
	driver.Tx
	c *nodeConn
}

// Commit ends a transaction.
func (t *nodeTx) Commit() error { return t.c.note(t.Tx.Commit()) }

// Ping asks whether the server answers.
func (c *nodeConn) Ping(ctx context.Context) error { return c.note(c.driverConn.Ping(ctx)) }

// IsValid reports whether the connection may be used again.
func (c *nodeConn) IsValid() bool { return c.of.isNow(c.turn) && c.driverConn.IsValid() }

// ResetSession is called before the connection is used again.
func (c *nodeConn) ResetSession(ctx context.Context) error {
	if !c.of.isNow(c.turn) {
		return driver.ErrBadConn
	}
	return c.driverConn.ResetSession(ctx)
}

func openPool(n *nodes, most int) *sql.DB {
	pool := sql.OpenDB(n)
	pool.SetMaxOpenConns(most)
	pool.SetMaxIdleConns(most)
	pool.SetConnMaxLifetime(10 * time.Minute)
	return pool
}

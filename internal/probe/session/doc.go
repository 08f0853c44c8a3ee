// Package session is what the two ends of a measurement say to each other besides the
// measurement itself: who they are, what is to be sent, what arrived.
//
// A connection begins with a challenge. Who does not answer it with a key that the
// other end knows gets nothing else. Every message after it is sealed with a key that
// only these two connections' ends can know.
//
//	c, err := session.Ask(conn, key, session.Hello{Role: session.Control})
//	err = c.Send(session.Open, order, nil)
//	m, err := c.Receive()
package session

// Package paced sends streams of datagrams at their moments, and notes what arrives of
// the other end's.
package paced

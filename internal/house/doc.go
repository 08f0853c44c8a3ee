// Package house holds the test that keeps the rooms of the house apart: which
// package may import which.
package house

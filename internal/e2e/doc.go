// Package e2e tests the whole as its users meet it: the real program, its own
// database, the HTTP interface, and the console in a real browser.
package e2e

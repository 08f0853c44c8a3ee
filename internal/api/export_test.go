package api

// RowOf makes a row of a path, for tests.
var RowOf = rowOf

// Package sqlite3 takes the place of the SQLite driver that needs a C compiler.
// GORM's driver imports that one for its side effect alone; the store uses
// modernc.org/sqlite, which is Go.
package sqlite3

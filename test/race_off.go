//go:build !race

package test

const raceFlag = "-race=false"

//go:build race

package service_test

// raceFactor is how much more a program takes that looks for races.
const raceFactor = 10

//go:build !race

package service_test

const raceFactor = 1

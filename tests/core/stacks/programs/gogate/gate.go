package main

import (
	"errors"
	"fmt"
	"os"
)

type Gate struct{ berths []int }
type Opener interface{ Open(int) int }

func (g *Gate) Open(i int) int {
	return g.berths[i] // FAULT index Gate.Open
}

func (g Gate) Close() {
	panic(fmt.Sprintf("gate of %d is stuck", len(g.berths))) // FAULT value Gate.Close
}

func level(m map[string]*Gate, pier string) int {
	return len(m[pier].berths) // FAULT nil level
}

func divide(a, b int) int {
	return a / b // FAULT divide divide
}

func first[T any](items []T) T {
	return items[0] // FAULT generic first
}

func cast(x any) string {
	return x.(string) // FAULT cast cast
}

func wrapped() {
	err := fmt.Errorf("open: %w", errors.New("no tide"))
	panic(err) // FAULT error wrapped
}

func closure() {
	func() {
		var m map[string]int
		m["x"] = 1 // FAULT closure closure
	}()
}

func again() {
	defer func() {
		r := recover()
		panic(fmt.Sprint("again: ", r)) // FAULT again again
	}()
	panic("first")
}

func routine(n int) {
	var o Opener
	o.Open(n) // FAULT routine routine
}

func main() {
	switch os.Args[1] {
	case "index":
		(&Gate{}).Open(7)
	case "value":
		Gate{}.Close()
	case "nil":
		level(nil, "eastholm")
	case "divide":
		divide(1, len(os.Args)-2)
	case "generic":
		first([]int{})
	case "cast":
		cast(7)
	case "error":
		wrapped()
	case "closure":
		closure()
	case "again":
		again()
	case "routine":
		done := make(chan bool)
		go func() { routine(1); done <- true }()
		<-done
	}
}

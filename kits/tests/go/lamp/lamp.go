package main

func main() { println("two white") }

package main

import (
	"fmt"

	"lamp"
)

func main() { fmt.Print(lamp.Text()) }

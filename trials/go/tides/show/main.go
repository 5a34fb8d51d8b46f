package main

import (
	"fmt"

	"github.com/spf13/cobra"
	"tides"
)

func main() {
	command := &cobra.Command{Use: "show", Run: func(*cobra.Command, []string) { fmt.Println(tides.Stations(), tides.Sum(40, 2)) }}
	_ = command.Execute()
}

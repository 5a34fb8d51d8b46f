package main

import (
	"fmt"

	"github.com/spf13/cobra"
	"tides"
	"tides/sea"
)

var version = "unknown"

func main() {
	command := &cobra.Command{Use: "show", Run: func(*cobra.Command, []string) { fmt.Println(tides.Stations(), tides.Sum(40, 2), sea.Level(3), version) }}
	_ = command.Execute()
}

// Command openapi writes the OpenAPI document that the service serves, for the
// console's types and for readers.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"

	"woodlark.example/internal/api"
	"woodlark.example/internal/cli"
)

func main() {
	data, err := api.Document(cli.Version)
	if err == nil {
		var out bytes.Buffer
		if err = json.Indent(&out, data, "", "  "); err == nil {
			out.WriteByte('\n')
			_, err = out.WriteTo(os.Stdout)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "openapi:", err)
		os.Exit(1)
	}
}

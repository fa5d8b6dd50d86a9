// Command document prints the API's OpenAPI document, without its examples.
package main

import (
	"fmt"
	"os"

	"deftheron/service/api"
)

func main() {
	document, err := api.OpenAPI("1", false)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println(string(document))
}

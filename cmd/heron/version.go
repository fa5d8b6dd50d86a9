package main

import (
	"runtime/debug"
	"strings"

	"deftheron/cli"
)

// release is the version that this source is of, or becomes.
const release = "0.1.0"

// builtFrom says what the program was built from, as the toolchain noted it.
func builtFrom() cli.Build {
	build := cli.Build{Version: release}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return build
	}
	build.Go = strings.TrimPrefix(info.GoVersion, "go")
	for _, setting := range info.Settings {
		switch setting.Key {
		case "vcs.revision":
			build.Commit = setting.Value
		case "vcs.time":
			build.Date = setting.Value
		case "vcs.modified":
			build.Modified = setting.Value == "true"
		}
	}
	return build
}

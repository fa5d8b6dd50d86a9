package index

// UseDriver has databases opened by another driver of the same kind.
func UseDriver(name string) { driverName = name }

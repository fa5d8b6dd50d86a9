package service

// WithoutHosts is withoutHosts, for tests.
var WithoutHosts = withoutHosts

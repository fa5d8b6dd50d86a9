package transfer

// SetLarge has files count as large from another size on.
func SetLarge(size int64) { largeFrom = size }

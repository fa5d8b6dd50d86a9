package store

// CombineCRC64NVME returns the CRC-64/NVME of two contents put together, of
// their own and of the second's length in bytes. It is the method of zlib's
// crc32_combine (Mark Adler): what length zero bytes do to a CRC is a linear
// map over GF(2), which is applied by squaring.
func CombineCRC64NVME(first, second uint64, length int64) uint64 {
	if length <= 0 {
		return first
	}
	const polynomial = 0x9a6c9329ac4bc9b5 // reflected
	var odd, even [64]uint64              // the map of 2^n zero bits, by columns
	odd[0] = polynomial
	for n, row := 1, uint64(1); n < 64; n, row = n+1, row<<1 {
		odd[n] = row
	}
	square(&even, &odd) // two zero bits
	square(&odd, &even) // four
	for {
		square(&even, &odd)
		if length&1 != 0 {
			first = times(&even, first)
		}
		if length >>= 1; length == 0 {
			break
		}
		square(&odd, &even)
		if length&1 != 0 {
			first = times(&odd, first)
		}
		if length >>= 1; length == 0 {
			break
		}
	}
	return first ^ second
}

func times(matrix *[64]uint64, vector uint64) (sum uint64) {
	for n := 0; vector != 0; n, vector = n+1, vector>>1 {
		if vector&1 != 0 {
			sum ^= matrix[n]
		}
	}
	return sum
}

func square(result, matrix *[64]uint64) {
	for n := range matrix {
		result[n] = times(matrix, matrix[n])
	}
}

module deftheron

go 1.26.0

require (
	github.com/minio/crc64nvme v1.1.1
	golang.org/x/sys v0.49.0
	golang.org/x/time v0.16.0
)

require github.com/klauspost/cpuid/v2 v2.4.0 // indirect

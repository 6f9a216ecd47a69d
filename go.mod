module crust

go 1.26.0

require github.com/klauspost/compress v1.20.4 // indirect

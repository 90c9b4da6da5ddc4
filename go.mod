module yellowfence.example/yfence

go 1.26.8

require (
	github.com/stretchr/testify v1.12.1 // indirect
	go4.org/netipx v0.0.0-20260823151212-3075585bcbeb // indirect
)

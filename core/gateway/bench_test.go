package gateway_test

import (
	"io"
	"net"
	"testing"
)

// BenchmarkStream is what one stream carries through a gateway from a machine, in one process.
func BenchmarkStream(b *testing.B) {
	signer, known := key(b, "mira")
	p := open(b, known+"allow mira to *\n", "", nil)
	zeros := make([]byte, 32<<10)
	p.join("reef", service(b, func(conn net.Conn) {
		for {
			if _, err := conn.Write(zeros); err != nil {
				return
			}
		}
	}))
	v := p.mustCome(signer)
	stream, err := v.open(b, "reef")
	if err != nil {
		b.Fatal(err)
	}
	piece := make([]byte, 32<<10)
	b.SetBytes(int64(len(piece)))
	b.ResetTimer()
	for range b.N {
		if _, err := io.ReadFull(stream, piece); err != nil {
			b.Fatal(err)
		}
	}
	b.StopTimer()
	stream.Close()
}

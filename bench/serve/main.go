// Command serve serves a folder over http on loopback, for fetch.sh. It prints
// its address, and for every request /sent answers how many bytes of body went
// out so far.
package main

import (
	"fmt"
	"log"
	"net"
	"net/http"
	"os"
	"sync/atomic"
)

var sent atomic.Int64

type counting struct{ http.ResponseWriter }

func (c counting) Write(b []byte) (int, error) {
	n, err := c.ResponseWriter.Write(b)
	sent.Add(int64(n))
	return n, err
}

func main() {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		log.Fatal(err)
	}
	files := http.FileServer(http.Dir(os.Args[1]))
	http.HandleFunc("/sent", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, sent.Swap(0)) })
	http.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) { files.ServeHTTP(counting{w}, r) })
	fmt.Printf("http://%s\n", l.Addr())
	log.Fatal(http.Serve(l, nil))
}

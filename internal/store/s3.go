package store

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// Address is where a bucket is: s3+https://HOST[:PORT]/BUCKET[/PREFIX].
type Address struct {
	Host   string // with its port
	Plain  bool   // over plain http
	Bucket string
	Prefix string // "" or ending in a slash
	Region string // "": the store is asked
}

// IsAddress tells whether a text means an object store rather than a folder.
func IsAddress(s string) bool { return strings.HasPrefix(s, "s3+") }

// ParseAddress reads an address.
func ParseAddress(s string) (a Address, err error) {
	u, err := url.Parse(s)
	if err != nil {
		return a, errors.New("it is not an address")
	}
	bucket, prefix, _ := strings.Cut(strings.Trim(u.Path, "/"), "/")
	a = Address{Host: u.Host, Plain: u.Scheme == "s3+http", Bucket: bucket, Prefix: prefix,
		Region: u.Query().Get("region")}
	if a.Prefix != "" {
		a.Prefix += "/"
	}
	switch {
	case u.Scheme != "s3+https" && u.Scheme != "s3+http", u.Host == "", bucket == "":
		return a, errors.New("an object store is written as s3+https://HOST/BUCKET/PREFIX")
	case u.User != nil:
		return a, errors.New("no keys in an address: a [[login]] for its host names them")
	}
	return a, nil
}

func (a Address) String() string {
	scheme := "s3+https://"
	if a.Plain {
		scheme = "s3+http://"
	}
	return strings.TrimSuffix(scheme+a.Host+"/"+a.Bucket+"/"+a.Prefix, "/")
}

// S3 is a Store in an object store. Cut connections and busy answers are tried
// again.
type S3 struct {
	a        Address
	core     *minio.Core
	answered atomic.Bool
}

// waits are how long after each failure the same is asked again: of a store that
// has answered before. One that never did is given up sooner.
var waits = []time.Duration{500 * time.Millisecond, 2 * time.Second, 10 * time.Second, 30 * time.Second}

// again asks until there is an answer.
func (s *S3) again(ctx context.Context, ask func() error) error {
	for try := 0; ; try++ {
		err := s.tell(ask())
		var u *Unreachable
		if !errors.As(err, &u) || u.spoke {
			s.answered.Store(true)
		}
		if u == nil || !u.passing {
			return err
		}
		if try == len(waits) || (try == 2 && !s.answered.Load()) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(waits[try]):
		}
	}
}

// OpenS3 opens a bucket with a pair of keys. Nothing is asked yet.
func OpenS3(a Address, key, secret string) (*S3, error) {
	tr := &http.Transport{
		Proxy:                 http.ProxyFromEnvironment,
		DialContext:           (&net.Dialer{Timeout: 15 * time.Second}).DialContext,
		TLSHandshakeTimeout:   15 * time.Second,
		ResponseHeaderTimeout: time.Minute,
		MaxIdleConnsPerHost:   16,
		DisableCompression:    true,
	}
	core, err := minio.NewCore(a.Host, &minio.Options{
		Creds: credentials.NewStaticV4(key, secret, ""), Secure: !a.Plain, Region: a.Region,
		BucketLookup: minio.BucketLookupPath, Transport: tr, MaxRetries: 1,
	})
	if err != nil {
		return nil, &Unreachable{Where: a.String(), Why: err.Error()}
	}
	return &S3{a: a, core: core}, nil
}

// Where is the address.
func (s *S3) Where() string { return s.a.String() }

// List asks for all names, page by page.
func (s *S3) List(ctx context.Context, prefix string) (out []Object, err error) {
	if err := s.again(ctx, func() error {
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		out = nil
		for o := range s.core.Client.ListObjects(ctx, s.a.Bucket, minio.ListObjectsOptions{Prefix: s.a.Prefix + prefix,
			Recursive: true}) {
			if o.Err != nil {
				return o.Err
			}
			if name, ours := strings.CutPrefix(o.Key, s.a.Prefix); ours && fs.ValidPath(name) {
				out = append(out, Object{name, o.Size})
			}
		}
		return nil
	}); err != nil {
		return nil, err
	}
	slices.SortFunc(out, func(a, b Object) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// Put sends an object in one request with its digest: it is there whole, or not
// at all. A line that stands still is given up after a minute and the time that
// 32 KiB a second take.
func (s *S3) Put(ctx context.Context, name string, r io.ReaderAt, size int64) error {
	return s.again(ctx, func() error {
		ctx, cancel := context.WithTimeout(ctx, time.Minute+time.Duration(size/(32<<10))*time.Second)
		defer cancel()
		// A reader of its own: that of a request which failed may still be read from.
		body := io.NewSectionReader(r, 0, size)
		_, err := s.core.Client.PutObject(ctx, s.a.Bucket, s.a.Prefix+name, body, size,
			minio.PutObjectOptions{DisableMultipart: true, SendContentMd5: true})
		return err
	})
}

// Get reads an object; a connection that is cut is taken up again where it was.
func (s *S3) Get(ctx context.Context, name string) (io.ReadCloser, error) {
	o := &object{s: s, ctx: ctx, name: s.a.Prefix + name}
	if err := s.again(ctx, o.open); err != nil {
		return nil, err
	}
	return o, nil
}

// object is one being read.
type object struct {
	s    *S3
	ctx  context.Context
	name string
	body io.ReadCloser
	tag  string
	at   int64
	size int64
	cuts int
}

// mostCuts is how often reading one object may be cut off.
const mostCuts = 100

func (o *object) open() error {
	opts := minio.GetObjectOptions{}
	if o.at > 0 {
		if err := opts.SetRange(o.at, 0); err != nil {
			return err
		}
		if err := opts.SetMatchETag(o.tag); err != nil {
			return err
		}
	}
	body, info, _, err := o.s.core.GetObject(o.ctx, o.s.a.Bucket, o.name, opts)
	if err != nil {
		return err
	}
	if o.body = body; o.at == 0 {
		o.tag, o.size = info.ETag, info.Size
	}
	return nil
}

func (o *object) Read(b []byte) (int, error) {
	n, err := o.body.Read(b)
	o.at += int64(n)
	if err == nil || o.ctx.Err() != nil || (errors.Is(err, io.EOF) && o.at >= o.size) {
		return n, err
	}
	o.body.Close()
	if o.cuts++; o.cuts > mostCuts {
		return n, o.s.tell(err)
	}
	return n, o.s.again(o.ctx, o.open)
}

func (o *object) Close() error { return o.body.Close() }

// Remove removes.
func (s *S3) Remove(ctx context.Context, name string) error {
	return s.again(ctx, func() error {
		return s.core.Client.RemoveObject(ctx, s.a.Bucket, s.a.Prefix+name, minio.RemoveObjectOptions{})
	})
}

// tell says in words why the store would not. Its own text may hold the request's
// signature; only its code is shown.
func (s *S3) tell(err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	where := s.a.String()
	if errors.Is(err, context.DeadlineExceeded) {
		return &Unreachable{Where: where, Why: "the line stands still", passing: true}
	}
	resp := minio.ToErrorResponse(err)
	switch resp.Code {
	case minio.NoSuchKey:
		return fmt.Errorf("%s: %w", where, fs.ErrNotExist)
	case minio.NoSuchBucket:
		return &Unreachable{Where: where, Why: "it has no bucket " + s.a.Bucket,
			Do: "make the bucket first, or mend the address"}
	case "InvalidAccessKeyId", "SignatureDoesNotMatch", minio.AccessDenied, "InvalidSecurity":
		return &Unreachable{Where: where, Why: fmt.Sprintf("it refuses the keys (%s)", resp.Code),
			Do: "the [[login]] for " + s.a.Host +
				" in freshkeel.toml names them: user is the key, from says where its secret is"}
	case "RequestTimeTooSkewed":
		return &Unreachable{Where: where, Why: "it says that this machine's clock is wrong", Do: "set the clock"}
	case "AuthorizationHeaderMalformed", "InvalidRegion":
		return &Unreachable{Where: where, Why: "it wants another region", Do: "add ?region=NAME to the address"}
	}
	if resp.Code != "" && resp.StatusCode != 0 {
		return &Unreachable{Where: where, Why: fmt.Sprintf("it answered %d %s", resp.StatusCode, resp.Code),
			spoke: true, passing: resp.StatusCode >= 500 || resp.StatusCode == http.StatusTooManyRequests}
	}
	var unknown x509.UnknownAuthorityError
	if errors.As(err, &unknown) {
		return &Unreachable{Where: where, Why: "its certificate is of an authority that this machine does not know"}
	}
	var asked *url.Error
	if errors.As(err, &asked) { // without the address, which holds the signature where it was in the query
		err = asked.Err
	}
	return &Unreachable{Where: where, Why: err.Error(),
		Do: "look at the line and at the address, then try again: what was sent stays", passing: true}
}

// Package demo is the demo harbour: a made-up game server with its builds,
// its world and its runtime, laid out in one folder to try Fresh Keel on.
//
// Mossgate is a night-time snail-racing game. The club Lower Fen Snail Racing
// hosts mossgate-east at build 3.4.1. Its makers offer 3.5.0, which comes up;
// 3.6.0, which touches the world and then dies; and for those who follow
// previews 3.7.0-pre1, and 4.0.0, which needs a runtime that the club does not
// have. A step from 3.5.0 to 3.5.1 comes as an increment.
package demo

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Harbour is a demo harbour on disk.
type Harbour struct {
	Dir     string
	Install string // mossgate-east
	Builds  string // folder with feed.json and the archives
	Home    string // FRESHKEEL_HOME for it
	Program string // a copy of the program that made it
	Port    int
}

// Behaviour of a build of the simulated server.
const (
	Good       = "good"
	Dies       = "dies"        // rewrites part of the world, then ends with an error
	Hangs      = "hangs"       // never gets ready
	Deaf       = "deaf"        // ready, but holds no port
	Misnamed   = "misnamed"    // says another version than its own
	Stubborn   = "stubborn"    // ignores the stop line and the terminate signal
	DiesSteady = "dies-steady" // ends right after it was ready
)

// Release is one build that the makers publish.
type Release struct {
	Version   string
	Channel   string
	Date      string
	Notes     string
	Behaviour string
	Java      int      // release of its class files
	Extra     []string // further files, path=content
	Main      string   `json:",omitempty"` // its main class, with slashes; "": that of the server
	Manifest  string   `json:",omitempty"` // more lines of its manifest
	Trial     bool     `json:",omitempty"` // it has preview class files
	Asks      bool     `json:",omitempty"` // it ends until its consent file says yes
}

// Releases are the builds of the demo.
var Releases = []Release{
	{Version: "3.4.1", Channel: "stable", Date: "2026-05-02", Notes: "The build that the club runs.", Behaviour: Good,
		Java:  17,
		Extra: []string{"tracks/old-mill.track=a slow bend round the mill"}},
	{Version: "3.5.0", Channel: "stable", Date: "2026-09-12", Notes: "Lantern races. The old mill track is gone.",
		Behaviour: Good, Java: 17,
		Extra: []string{"tracks/lantern-row.track=by lantern light", "lib/lanterns.txt=twelve of them"}},
	{Version: "3.6.0", Channel: "stable", Date: "2026-10-30", Notes: "Flood gates.", Behaviour: Dies, Java: 17,
		Extra: []string{"tracks/lantern-row.track=by lantern light", "tracks/flood-gate.track=mind the water"}},
	{Version: "3.7.0-pre1", Channel: "preview", Date: "2026-11-12", Notes: "Moss that grows.", Behaviour: Good,
		Java:  17,
		Extra: []string{"tracks/lantern-row.track=by lantern light", "lib/moss.txt=it grows"}},
	{Version: "4.0.0", Channel: "preview", Date: "2026-11-20", Notes: "New physics of slime.", Behaviour: Good,
		Java:  33,
		Extra: []string{"tracks/lantern-row.track=by lantern light"}},
}

// Increment is what the makers publish as a step over 3.5.0, for those who keep
// their archives themselves.
var Increment = Release{Version: "3.5.1", Channel: "stable", Date: "2026-09-30", Notes: "Lanterns that stay lit.",
	Behaviour: Good, Java: 17,
	Extra: []string{"tracks/lantern-row.track=by steady lantern light"}}

// Make lays the harbour out in dir, with the install at Releases[0]. program
// is the file that becomes the simulated runtime; port 0 picks a free one.
func Make(dir, program string, port int, releases []Release) (*Harbour, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if port == 0 {
		if port, err = freePort(); err != nil {
			return nil, err
		}
	}
	h := &Harbour{Dir: dir, Install: filepath.Join(dir, "mossgate-east"), Builds: filepath.Join(dir, "builds"),
		Home: filepath.Join(dir, "home"), Program: filepath.Join(dir, "bin", "freshkeel"), Port: port}
	if err := copyFile(h.Program, program, 0o755); err != nil {
		return nil, err
	}
	if err := h.runtime("17", "17.0.9"); err != nil {
		return nil, err
	}
	if err := h.runtimeArchive("33.0.1"); err != nil {
		return nil, err
	}
	if err := h.Publish(releases); err != nil {
		return nil, err
	}
	if len(releases) == len(Releases) {
		if err := h.PublishIncrement(filepath.Join(dir, "archives"), Releases[1], Increment); err != nil {
			return nil, err
		}
	}
	return h, h.install(releases[0])
}

// runtime lays out a simulated Java runtime: a release file and a java program.
func (h *Harbour) runtime(release, version string) error {
	home := filepath.Join(h.Dir, "runtimes", release)
	if err := put(filepath.Join(home, "release"),
		fmt.Sprintf("IMPLEMENTOR=\"Lower Fen Snail Racing\"\nJAVA_VERSION=%q\n", version), 0o644); err != nil {
		return err
	}
	return put(filepath.Join(home, "bin", "java"),
		fmt.Sprintf("#!/bin/sh\nexec \"${0%%/*}/../../../bin/freshkeel\" simulated-runtime %s \"$@\"\n", version),
		0o755)
}

// RuntimeArchive is the name of the archive of a simulated runtime, in the
// harbour's folder builds/runtimes.
func RuntimeArchive(version string) string { return "java-" + version + "-demo.zip" }

// runtimeArchive writes the archive of a newer simulated runtime, as somebody
// would download it.
func (h *Harbour) runtimeArchive(version string) error {
	top := "java-" + version + "/"
	b, err := zipped([]file{
		{top + "release", []byte("IMPLEMENTOR=\"Lower Fen Snail Racing\"\nJAVA_VERSION=\"" + version + "\"\n")},
		{top + "bin/java", []byte("#!/bin/sh\nexec '" + h.Program + "' simulated-runtime " + version + " \"$@\"\n")},
		{top + "legal/NOTICE", []byte("Made up.\n")},
	})
	if err != nil {
		return err
	}
	return put(filepath.Join(h.Builds, "runtimes", RuntimeArchive(version)), string(b), 0o644)
}

// Publish writes the archives of releases and the feed that lists them.
func (h *Harbour) Publish(releases []Release) error {
	type unpack struct {
		As string `json:"as"`
	}
	type part struct {
		URL     string            `json:"url"`
		Size    int               `json:"size"`
		Digests map[string]string `json:"digests"`
		Unpack  unpack            `json:"unpack"`
	}
	type build struct {
		Version string            `json:"version"`
		Channel string            `json:"channel"`
		Date    string            `json:"date"`
		Notes   string            `json:"notes"`
		Parts   []part            `json:"parts"`
		Needs   map[string]string `json:"needs"`
		Goes    []runtimePart     `json:"runtimes,omitempty"`
	}
	var list []build
	for _, r := range releases {
		z, err := Archive(r)
		if err != nil {
			return err
		}
		name := "mossgate-" + r.Version + ".zip"
		if err := put(filepath.Join(h.Builds, name), string(z), 0o644); err != nil {
			return err
		}
		sum := sha256.Sum256(z)
		list = append(list, build{r.Version, r.Channel, r.Date, r.Notes,
			[]part{{name, len(z), map[string]string{"sha256": hex.EncodeToString(sum[:])}, unpack{"zip"}}},
			map[string]string{"java": fmt.Sprintf(">=%d", r.Java)}, h.runtimeOf(r)})
	}
	b, err := json.MarshalIndent(map[string]any{"format": "freshkeel-feed/1", "name": "Mossgate dedicated server",
		"builds": list}, "", "  ")
	if err != nil {
		return err
	}
	return put(filepath.Join(h.Builds, "feed.json"), string(b)+"\n", 0o644)
}

// runtimePart is the archive of a runtime that a feed names with a build.
type runtimePart struct {
	Runtime string            `json:"runtime"`
	Version string            `json:"version"`
	URL     string            `json:"url"`
	Digests map[string]string `json:"digests"`
}

// runtimeOf is the archive that goes with a release: for one that needs more
// than the club has.
func (h *Harbour) runtimeOf(r Release) []runtimePart {
	const newer = "33.0.1"
	b, err := os.ReadFile(filepath.Join(h.Builds, "runtimes", RuntimeArchive(newer)))
	if err != nil || r.Java != 33 {
		return nil
	}
	sum := sha256.Sum256(b)
	return []runtimePart{{"java", newer, "runtimes/" + RuntimeArchive(newer),
		map[string]string{"sha256": hex.EncodeToString(sum[:])}}}
}

// file is one entry of a build.
type file struct {
	name string
	body []byte
}

// settings are the defaults that a release ships: builds from 3.5.0 on have lanterns and no toll
// at the mill, and a longer time at the gates.
func (r Release) settings() string {
	gate, toll, lanterns := "30", "mill-toll = 2        # what a snail pays at the old mill\n", ""
	if r.Version != Releases[0].Version && r.Version != "" {
		gate, toll, lanterns = "45", "", "lanterns = 12        # lit from dusk on\n"
	}
	return "# mossgate settings\nname = A Mossgate garden\nport = 27700\nnight = long\n\n# the course\nsnails = 6           " +
		"# how many start\ngate-time = " + gate + "       # seconds until the gates open\n" + toll + lanterns +
		"\n# the garden\nweather = dry\ngreeting = Welcome to the garden\n"
}

// ownSettings are those of the club, which changed seven values of the defaults of 3.4.1.
func (h *Harbour) ownSettings() string {
	return strings.NewReplacer("A Mossgate garden", "Lower Fen Snail Racing, east", "27700", strconv.Itoa(h.Port),
		"night = long", "night = longer", "snails = 6 ", "snails = 9 ", "gate-time = 30", "gate-time = 20",
		"mill-toll = 2", "mill-toll = 5", "Welcome to the garden", "Mind the moss").Replace(Releases[0].settings())
}

// files lists what a release ships.
func (r Release) files() ([]file, error) {
	jar, err := Jar(r)
	if err != nil {
		return nil, err
	}
	out := []file{
		{"mossgate-server-" + r.Version + ".jar", jar},
		{"mossgate.conf", []byte(r.settings())},
		{"README.txt", []byte("Mossgate dedicated server " + r.Version +
			"\nRun the jar with a Java runtime of release " + fmt.Sprint(r.Java) + " or newer.\n")},
		{"tracks/fern-mile.track", []byte("fern mile, as ever\n")},
		{"tracks/dew-loop.track", []byte("dew loop, surveyed for " + r.Version + "\n")},
		{"assets/snails.pak", noise(r.Version, 384<<10)},
		{"assets/night.pak", noise("night", 256<<10)}, // the same in every build
	}
	for _, e := range r.Extra {
		name, body, _ := strings.Cut(e, "=")
		out = append(out, file{name, []byte(body + "\n")})
	}
	return out, nil
}

// Download puts the one file of a release that its server runs at a path, as somebody
// would download it.
func (h *Harbour) Download(at, version string) error {
	for _, r := range Releases {
		if r.Version == version {
			b, err := Jar(r)
			if err != nil {
				return err
			}
			return put(at, string(b), 0o644)
		}
	}
	return fmt.Errorf("there is no release %s", version)
}

// archives are those that were made, by their releases: tests make the same harbour some
// hundred times.
var archives sync.Map

// Archive is the zip that the makers publish for a release. Nobody writes to it.
func Archive(r Release) ([]byte, error) {
	key := fmt.Sprintf("%+v", r)
	if made, ok := archives.Load(key); ok {
		return made.([]byte), nil
	}
	list, err := r.files()
	if err != nil {
		return nil, err
	}
	made, err := zipped(list)
	if err == nil {
		archives.Store(key, made)
	}
	return made, err
}

func zipped(list []file) ([]byte, error) {
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	for _, f := range list {
		h := &zip.FileHeader{Name: f.name, Method: zip.Deflate, Modified: time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)}
		h.SetMode(0o644)
		if strings.Contains(f.name, "/bin/") {
			h.SetMode(0o755)
		}
		w, err := z.CreateHeader(h)
		if err != nil {
			return nil, err
		}
		if _, err := w.Write(f.body); err != nil {
			return nil, err
		}
	}
	if err := z.Close(); err != nil { // it writes the directory
		return nil, err
	}
	return buf.Bytes(), nil
}

// Jar is a release's server jar: a manifest, a main class with a true class
// file header, and what the simulated server is to do.
func Jar(r Release) ([]byte, error) {
	props, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	main := r.Main
	if main == "" {
		main = "mossgate/Gatehouse"
	}
	return zipped([]file{
		{"META-INF/MANIFEST.MF", []byte("Manifest-Version: 1.0\r\nMain-Class: " + strings.ReplaceAll(main, "/", ".") +
			"\r\nImplementation-Version: " + r.Version + "\r\n" + r.Manifest + "\r\n")},
		{main + ".class", classFile(main, r.Java+44, r.Trial)},
		{"mossgate/release.json", props},
	})
}

// classFile is the smallest class: a name, a superclass and nothing else (The
// Java Virtual Machine Specification, section 4.1).
func classFile(name string, major int, trial bool) []byte {
	var b bytes.Buffer
	u2 := func(v ...int) {
		for _, x := range v {
			binary.Write(&b, binary.BigEndian, uint16(x))
		}
	}
	utf8 := func(s string) {
		b.WriteByte(1)
		u2(len(s))
		b.WriteString(s)
	}
	class := func(at int) {
		b.WriteByte(7)
		u2(at)
	}
	binary.Write(&b, binary.BigEndian, uint32(0xCAFEBABE))
	minor := 0
	if trial {
		minor = 0xFFFF
	}
	u2(minor, major)
	u2(5)
	class(2)
	utf8(name)
	class(4)
	utf8("java/lang/Object")
	u2(0x0021, 1, 3, 0, 0, 0, 0)
	return b.Bytes()
}

// install lays out mossgate-east as the club has it: the build, the world, the
// lists and settings, an own launch script, and last week's log.
func (h *Harbour) install(r Release) error {
	list, err := r.files()
	if err != nil {
		return err
	}
	shipped := time.Now().Add(-200 * 24 * time.Hour)
	for _, f := range list {
		name := f.name
		if strings.HasSuffix(name, ".jar") {
			name = "mossgate.jar"
		}
		full := filepath.Join(h.Install, name)
		if err := put(full, string(f.body), 0o644); err != nil {
			return err
		}
		if err := os.Chtimes(full, shipped, shipped); err != nil {
			return err
		}
	}
	own := map[string]string{
		"mossgate.conf": h.ownSettings(),
		"members.txt":   "Wilmot Pondweed\nAda Understone\nTib Hartstongue\n",
		"stewards.txt":  "Ada Understone\n",
		"open-gates.sh": "#!/bin/sh\n# Opens the gates of mossgate-east.\ncd \"$(dirname \"$0\")\" || exit " +
			"1\nJAVA=../runtimes/17/bin/java\nMEMORY=\"-Xms64M -Xmx256M\"\nexec \"$JAVA\" $MEMORY -jar mossgate.jar " +
			"--gardens gardens\n",
		"logs/mossgate.log": fmt.Sprintf("mossgate server 3.4.1\nreading mossgate.conf\nbound udp port %d\n3 gardens, "+
			"3 members\ngates open after 0.4 s\n"+
			"Ada Understone came in\nAda Understone went home\n> close\nclosing the gates\n", h.Port),
	}
	for name, body := range own {
		mode := os.FileMode(0o644)
		if strings.HasSuffix(name, ".sh") {
			mode = 0o755
		}
		if err := put(filepath.Join(h.Install, name), body, mode); err != nil {
			return err
		}
	}
	for _, g := range []string{"fen-east", "fen-west", "old-well"} {
		if err := put(filepath.Join(h.Install, "gardens", g+".garden"),
			string(Mark(r.Version))+string(noise(g, 96<<10)), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// noise is made-up content that does not compress, the same for the same name.
func noise(name string, n int) []byte {
	var seed [32]byte
	copy(seed[:], name)
	b := make([]byte, n)
	io.ReadFull(rand.NewChaCha8(seed), b)
	return b
}

func put(full, body string, mode os.FileMode) error {
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		return err
	}
	return os.WriteFile(full, []byte(body), mode)
}

func copyFile(to, from string, mode os.FileMode) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	// A link shares the bytes where the file system allows it.
	if os.Link(from, to) == nil {
		return nil
	}
	src, err := os.Open(from)
	if err != nil {
		return err
	}
	defer src.Close()
	dst, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	if _, err := io.Copy(dst, src); err != nil {
		dst.Close()
		return err
	}
	return dst.Close()
}

func freePort() (int, error) {
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer c.Close()
	return c.LocalAddr().(*net.UDPAddr).Port, nil
}

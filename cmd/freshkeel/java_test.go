//go:build unix

package main

import (
	bin "encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"freshkeel"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const pondSource = `
import java.io.*;
import java.net.*;

public class Pond {
    public static void main(String[] args) throws Exception {
        System.out.println("pond server VERSION");
        try (DatagramSocket gate = new DatagramSocket(Integer.parseInt(args[0]), InetAddress.getLoopbackAddress())) {
            System.out.println("frogs may come in");
            BufferedReader in = new BufferedReader(new InputStreamReader(System.in));
            for (String line; (line = in.readLine()) != null; ) {
                if (line.equals("drain")) {
                    System.out.println("the pond is empty");
                    return;
                }
            }
        }
    }
}
`

// envMustJava makes a missing javac a failure, for machines that are to have it.
const envMustJava = "FRESHKEEL_TEST_MUST_JAVA"

// buildPond compiles a version of the pond server, for Java of a release and
// newer, into a jar in folder.
func buildPond(t *testing.T, folder, version, release string) string {
	t.Helper()
	src := t.TempDir()
	proving.Put(t, filepath.Join(src, "Pond.java"), strings.Replace(pondSource, "VERSION", version, 1))
	out, err := exec.Command("javac", "--release", release, "-d", src, filepath.Join(src, "Pond.java")).CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoError(t, os.MkdirAll(folder, 0o755))
	jar := filepath.Join(folder, "pond-"+version+".jar")
	out, err = exec.Command("jar", "--create", "--file", jar, "--main-class", "Pond", "-C", src,
		"Pond.class").CombinedOutput()
	require.NoError(t, err, string(out))
	return jar
}

// A real server on the real runtime: refitted, and protected from a class file
// that this runtime can't read, which it then really can't.
func TestRealJavaServerIsRefittedAndProtected(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("javac"); err != nil {
		if os.Getenv(envMustJava) != "" {
			t.Fatal("javac is to be here, and is not")
		}
		t.Skip("no javac here")
	}
	p := bare(t)
	port := proving.FreePort(t)
	old := buildPond(t, filepath.Join(p.Dir, "pond-1.0"), "1.0", "11")
	b, err := os.ReadFile(old)
	require.NoError(t, err)
	p.Put("pond.jar", string(b))
	p.Put("fill.sh", fmt.Sprintf("#!/bin/sh\nMEM=-Xmx64m\nexec java $MEM -jar pond.jar %d\n", port))
	p.Put("frogs/count.dat", "3")
	p.Put("logs/latest.log", fmt.Sprintf("pond server 1.0\nfrogs may come in\nudp %d\n> drain\n", port))
	p.OK("adopt", p.Install, "--build", filepath.Dir(old))
	p.EditProfile(func(s string) string {
		s = proving.Quick.Replace(s)
		s = strings.Replace(s, "send = ''", "send = 'drain'", 1)
		return strings.Replace(s, "line = ''", "line = '^frogs may come in'", 1)
	})
	p.EditProfile(func(s string) string { return strings.Replace(s, "within = '15s'", "within = '30s'", 1) })
	p.OK("start")
	pid := p.Status().Server.PID

	next := buildPond(t, filepath.Join(p.Dir, "pond-1.1"), "1.1", "11")
	r := p.OK("refit", "--from", filepath.Dir(next))
	assert.Contains(t, r.Out, "REFITTED  1.0 → 1.1 and runs")
	assert.Contains(t, r.Out, "pond server 1.1")
	assert.NotEqual(t, pid, p.Status().Server.PID)
	pid = p.Status().Server.PID

	// What the compiler wrote for each release is read as that release.
	for _, release := range []string{"8", "11", "17"} {
		at := filepath.Join(p.Dir, "pond-1.1."+release)
		buildPond(t, at, "1.1."+release, release)
		var r freshkeel.Runtimes
		require.NoError(t, json.Unmarshal([]byte(p.OK("--json", "runtimes", "--from", at).Out), &r))
		assert.Equal(t, "Java "+release, r.Need)
		assert.Equal(t, freshkeel.OK, p.preflight(exitDone, "--from", at)["runtime"].Level)
	}

	// The same class, said to be of a release that nobody has yet.
	future := filepath.Join(p.Dir, "pond-1.2")
	jar := buildPond(t, future, "1.2", "11")
	unpacked := t.TempDir()
	unzip := exec.Command("jar", "--extract", "--file", jar)
	unzip.Dir = unpacked
	require.NoError(t, unzip.Run())
	class, err := os.ReadFile(filepath.Join(unpacked, "Pond.class"))
	require.NoError(t, err)
	bin.BigEndian.PutUint16(class[6:], 244) // release 200
	require.NoError(t, os.WriteFile(filepath.Join(unpacked, "Pond.class"), class, 0o644))
	require.NoError(t, exec.Command("jar", "--create", "--file", jar, "--main-class", "Pond", "-C", unpacked,
		"Pond.class").Run())

	before := p.Tree()
	r = p.Exits(exitRefused, "refit", "--from", future)
	assert.Contains(t, r.Out, "pond.jar needs Java 200, the launch script runs Java ")
	assert.Contains(t, r.Out, "fill.sh:3: exec java $MEM -jar pond.jar")
	assert.Contains(t, r.Out, "Pond.class is class file version 244")
	assert.Equal(t, pid, p.Status().Server.PID, "the server was not stopped")
	assert.Equal(t, before, p.Tree())

	out, err := exec.Command("java", "-jar", jar, fmt.Sprint(proving.FreePort(t))).CombinedOutput()
	require.Error(t, err, "the runtime refuses it too")
	assert.Contains(t, string(out), "244.0")

	// A class path with a main class is looked through like a jar, in a script and in an
	// argument file; what can't be looked at is said.
	script := p.Read("fill.sh")
	for line, want := range map[string]string{
		"java $MEM -cp 'lib/*:pond.jar' Pond":    "pond.jar needs Java 200",
		"java @java.args":                        "pond.jar needs Java 200",
		"java -cp pond.jar Puddle":               "the line runs the class Puddle, and none of 1 jar of its class path will hold it",
		"java -cp pond.jar:/opt/none.jar Puddle": "which Java the new build needs can't be told: the class Puddle is in none of 1 jar",
		"java --module-path . -m pond/Pond":      "can't be told: the line runs the module pond/Pond",
		"java @none.args Pond":                   "can't be told: its argument file none.args can't be read",
	} {
		p.Put("java.args", "# how it is run\n-Xmx64m -cp\n\"pond.jar\" Pond\n")
		p.Put("fill.sh", strings.Replace(script, "java $MEM -jar pond.jar", line, 1))
		assert.Contains(t, strings.Join(strings.Fields(p.Run("preflight", "--from", future).Out), " "), want, line)
	}
	p.Put("fill.sh", script)
	require.NoError(t, os.Remove(filepath.Join(p.Install, "java.args")))

	// And told to go on all the same, it comes back by itself.
	r = p.Exits(exitRolledBack, "refit", "--from", future, "--accept", "runtime")
	assert.Contains(t, r.Out, "UnsupportedClassVersionError")
	assert.Equal(t, before, p.Tree())
	assert.True(t, p.Status().Server.Running)
}

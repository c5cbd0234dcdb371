package launch

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a unit runs comes back word for word out of the text that it is edited as.
func TestAUnitsLineComesBackWordForWord(t *testing.T) {
	for _, words := range [][]string{
		{"/usr/bin/java", "-Xmx${MEM}", "$OPTS", "-jar", "m.jar"},
		{"/srv/the fen/pond", "--motd=it's 5 o'clock", "$$HOME", "a$$b${C}d", "%h", "*", "~", "{a,b}", "\\n", `"`, ""},
		{"/bin/sh", "-c", "cd /srv && exec java -Xmx${M} -jar m.jar >out 2>&1"},
		{"/x", "caf\u00e9", "tab\there", "new\nline", "#no", "a;b", "=", "!"},
	} {
		back, err := UnitWords(UnitText([][]string{words, {"/bin/true"}}))
		require.NoError(t, err, "%q", words)
		assert.Equal(t, [][]string{words, {"/bin/true"}}, back)
	}
	for _, more := range []string{"java &\n", "A=1 java\n", "java >out\n", "java | tee\n", "if true; then java; fi\n",
		"java $(id)\n", "! java\n", "cd / || exit 1\njava\n"} {
		_, err := UnitWords([]byte(more))
		assert.Error(t, err, more)
	}
}

// A unit's line gets what is wished as a script does, and no shell's words come into it.
func TestAWishIsGrantedInAUnitsLine(t *testing.T) {
	on := func(words string, more ...string) []string { return append(strings.Fields(words), more...) }
	for name, c := range map[string]struct {
		wish    Wish
		line    []string
		want    []string // nil: it stays
		lacking string
	}{
		"memory": {Wish{Most: "8G"}, on("/rt/java -Xmx2G -jar m.jar nogui"), on("/rt/java -Xmx8G -jar m.jar nogui"), ""},
		"a flag with a dollar": {Wish{Flags: []string{"-Da=b c$d%e"}}, on("/rt/java -jar m.jar"),
			[]string{"/rt/java", "-Da=b c$$d%e", "-jar", "m.jar"}, ""},
		"arguments": {Wish{With: []string{"--port 99"}}, on("/rt/java -jar m.jar"), on("/rt/java -jar m.jar --port 99"), ""},
		"the unit's own variable": {Wish{Most: "8G"}, on("/rt/java -Xmx${MEM} -jar m.jar"), on("/rt/java -Xmx8G -jar m.jar"),
			""},
		"a variable of words":   {Wish{Most: "8G"}, on("/rt/java $OPTS -jar m.jar"), nil, "-Xmx8G"},
		"another folder":        {Wish{Folder: "world"}, on("/rt/java -jar m.jar"), nil, "folder"},
		"what a shell is given": {Wish{Most: "8G"}, on("/bin/sh -c", "exec java -Xmx2G -jar m.jar | cat"), nil, "-Xmx8G"},
	} {
		t.Run(name, func(t *testing.T) {
			s := scriptIn(t, "unused.sh", "", map[string]string{"rt/java": "", "m.jar": ""})
			for _, words := range [][]string{c.line, c.want} {
				if len(words) > 0 && strings.HasPrefix(words[0], "/rt/") {
					words[0] = s.Install + words[0]
				}
			}
			s.Name, s.Label, s.Lines, s.Dir = "", "m.service", [][]string{c.line}, s.Install
			s.Env = append(s.Env, "MEM=2G", "OPTS=-Xmx2G -Xms1G")
			_, lacking, err := s.Grant(c.wish)
			require.NoError(t, err)
			now, err := s.Unit()
			require.NoError(t, err)
			if c.want == nil {
				assert.Empty(t, now)
			} else {
				assert.Equal(t, [][]string{c.want}, now)
			}
			assert.Contains(t, strings.Join(lacking, "\n"), c.lacking)
		})
	}
}

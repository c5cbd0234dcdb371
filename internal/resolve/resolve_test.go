package resolve_test

import (
	"context"
	"errors"
	"testing"

	"freshkeel/internal/resolve"
	"freshkeel/internal/tell"
	"freshkeel/proving/stand"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const list = `{"format":"freshkeel-feed/1","name":"pond","builds":[
 {"version":"1.0","channel":"stable","parts":[{"url":"pond-1.0.zip"}]},
 {"version":"1.1","channel":"stable","parts":[{"url":"pond-1.1.zip"}]},
 {"version":"2.0","channel":"stable","from":["1.1"],"parts":[{"url":"pond-2.0.zip"}]},
 {"version":"2.1-pre1","channel":"preview","parts":[{"url":"pond-2.1-pre1.zip"}]}]}`

const songs = `{"format":"freshkeel-feed/1","name":"songs","builds":[
 {"version":"7","channel":"stable","fits":"<2.0","parts":[{"url":"songs-7.zip"}]},
 {"version":"8","channel":"stable","fits":">=2.0","parts":[{"url":"songs-8.zip"}]}]}`

// What is wanted leads to a build, layers over it that fit, and the builds in between; what
// can't be had is an error that says what to do.
func TestWhatIsWantedLeadsToABuild(t *testing.T) {
	const source, layer = "[source]\nfeed = 'feeds/pond.json'\n",
		"[[layer]]\nname = 'songs'\nsource.feed = 'feeds/songs.json'\n"
	for name, c := range map[string]struct {
		profile   string
		installed string
		want      resolve.Want
		versions  []string // of the chain that leads there, then NAME=VERSION of the layers over its end
		err       string
	}{
		"the newest": {source + "channel = 'stable'\n", "1.1", resolve.Want{}, []string{"2.0"}, ""},
		"of another channel": {source + "channel = 'preview'\n", "2.0", resolve.Want{},
			[]string{"2.1-pre1"}, ""},
		"by its version":      {source, "1.0", resolve.Want{Version: "1.1"}, []string{"1.1"}, ""},
		"over one in between": {source, "1.0", resolve.Want{Version: "2.0"}, []string{"1.1", "2.0"}, ""},
		"with the layer that fits": {source + layer, "1.0", resolve.Want{Version: "1.1"},
			[]string{"1.1", "songs=7"}, ""},
		"with another for a later build": {source + layer, "1.1", resolve.Want{Version: "2.0"},
			[]string{"2.0", "songs=8"}, ""},
		"without the layer": {source + layer, "1.0",
			resolve.Want{Version: "1.1", Without: []string{"songs"}}, []string{"1.1"}, ""},
		"a version that is not there": {source, "1.0", resolve.Want{Version: "9"}, nil,
			"no build 9; it has 1.0, 1.1"},
		"a channel that is not there": {source + "channel = 'nightly'\n", "1.0", resolve.Want{}, nil,
			"channels are: stable, preview"},
		"a layer that is not there": {source, "1.0", resolve.Want{Without: []string{"moss"}}, nil, "moss"},
		"a version and a place": {source, "1.0", resolve.Want{Version: "1.1", From: "x"}, nil,
			"which one is meant"},
	} {
		t.Run(name, func(t *testing.T) {
			s := stand.New(t, c.profile)
			s.Put(map[string]string{"feeds/pond.json": list, "feeds/songs.json": songs})
			s.Installed(c.installed, map[string]string{"pond.jar": c.installed})
			got, err := s.Res.All(context.Background(), c.want)
			if c.err != "" {
				require.ErrorContains(t, err, c.err)
				var (
					advised *tell.Advised
					misuse  *tell.Usage
				)
				assert.True(t, errors.As(err, &advised) && advised.Do != "" || errors.As(err, &misuse) &&
					misuse.Do != "",
					"it says what to do")
				return
			}
			require.NoError(t, err)
			route, err := s.Res.Route(context.Background(), got, c.want)
			require.NoError(t, err)
			var versions []string
			for _, r := range route {
				versions = append(versions, r.Base.Version)
			}
			for _, l := range route[len(route)-1].Layers {
				versions = append(versions, l.Layer+"="+l.Version)
			}
			assert.Equal(t, c.versions, versions)
		})
	}
}

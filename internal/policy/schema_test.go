package policy

import (
	"bytes"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
)

func schema(t *testing.T) *jsonschema.Schema {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("policy.json", doc))
	s, err := c.Compile("policy.json")
	require.NoError(t, err)
	return s
}

func valid(t *testing.T, s *jsonschema.Schema, text string) error {
	raw, err := yaml.YAMLToJSON([]byte(text))
	if err != nil {
		return err
	}
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	require.NoError(t, err)
	return s.Validate(v)
}

// The schema takes what Parse takes, all that the documents show included, and refuses
// what is wrong by form alone.
func TestSchemaAgreesWithParse(t *testing.T) {
	s := schema(t)
	texts := []string{good, "policy: a\nvolumes: {names: [x, y@z]}\n", "policy: a\nvolumes: {tier: 1, gold: true}\n",
		"policy: a\nvolumes: {b: c}\ntake: ['RRULE:FREQ=DAILY', at service start, on change]\nweek_starts: sun\nkeep: {x: " +
			"{daily: first for 2 years, newest: 1}, y/shelf: {weekly: last 3, safety: 1 year}}\nobjectives: " +
			"{recovery: 1 hour}\n"}
	docs, err := os.ReadFile("../../docs/policies.md")
	require.NoError(t, err)
	for _, m := range regexp.MustCompile("(?s)```yaml\n(policy: .*?)```").FindAllStringSubmatch(string(docs), -1) {
		texts = append(texts, m[1])
	}
	require.Greater(t, len(texts), 4)
	for _, text := range texts {
		_, err := Parse(text)
		require.NoError(t, err, text)
		require.NoError(t, valid(t, s, text), text)
	}
	for _, text := range []string{"policy: a\n", "policy: A\nvolumes: {a: b}\n", "policy: a\nvolumes: {}\n",
		"policy: a\nvolumes: {a: b}\ntake: [now and then]\n", "policy: a\nvolumes: {a: b}\nkeep: {x: {}}\n",
		"policy: a\nvolumes: {a: b}\nkeep: {x: {daily: 0}}\n", "policy: a\nvolumes: {a: b}\nkeep: {x: {dayly: 3}}\n",
		"policy: a\nvolumes: {a: b}\ngrace: soon\n", "policy: a\nvolumes: {a: b}\nmilestones: [{name: m, on: daily}]\n",
		"policy: a\nvolumes: {names: [x], a: b}\n", "policy: a\nvolumes: {a: b}\ncolour: red\n"} {
		_, err := Parse(text)
		require.Error(t, err, text)
		require.Error(t, valid(t, s, text), text)
	}
	for _, key := range regexp.MustCompile(`yaml:"([a-z_]+)"`).FindAllStringSubmatch(source(t), -1) {
		require.True(t, strings.Contains(string(Schema), `"`+key[1]+`"`), "%s is not in the schema", key[1])
	}
}

func source(t *testing.T) string {
	raw, err := os.ReadFile("policy.go")
	require.NoError(t, err)
	return string(raw)
}

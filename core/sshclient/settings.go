package sshclient

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/kevinburke/ssh_config"
)

// Settings are what the user's own ssh would use for a destination.
type Settings struct {
	Alias          string // as it was named
	HostName       string
	Port           int
	User           string
	IdentityFiles  []string
	IdentitiesOnly bool   // no other keys of the agent than those
	Agent          string // its socket; "": none
	Certificates   []string
	HostKeyAlias   string
	Jumps          []Destination // in the order in which they are gone through
	KnownHosts     []string      // the user's first
	// NotUsed says what the settings hold that is not used here, and why.
	NotUsed []string
}

// Files are where the settings are.
type Files struct {
	Home    string   // the user's home
	Configs []string // of ssh, in the order in which they count
	Agent   string   // the socket that the environment names
	Name    string   // the user's own
}

// OwnFiles are those of the user who runs this.
func OwnFiles() (Files, error) {
	home, err := os.UserHomeDir()
	if err != nil {
		return Files{}, fmt.Errorf("find your home, where the settings of ssh are: %w", err)
	}
	f := Files{Home: home, Configs: []string{filepath.Join(home, ".ssh", "config"), "/etc/ssh/ssh_config"}, Agent: os.Getenv("SSH_AUTH_SOCK")}
	if own, err := user.Current(); err == nil {
		_, f.Name, _ = cutLast(own.Username, `\`) // on Windows the domain stands before it
	}
	return f, nil
}

// cutLast cuts around the last separator; without one, all is after it.
func cutLast(text, separator string) (before, after string, found bool) {
	i := strings.LastIndex(text, separator)
	if i < 0 {
		return "", text, false
	}
	return text[:i], text[i+len(separator):], true
}

// configs are files of settings, read.
type configs struct {
	files   Files
	read    []*ssh_config.Config
	notUsed []string
}

// readConfigs reads the files that there are. What one cannot be understood in is noted, and all else
// counts.
func readConfigs(files Files) (*configs, error) {
	all := &configs{files: files}
	for _, name := range files.Configs {
		text, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("read the settings of ssh: %w", err)
		}
		understood, notUsed := withoutOddBlocks(string(text))
		for _, line := range notUsed {
			all.notUsed = append(all.notUsed, name+", "+line)
		}
		config, err := ssh_config.DecodeBytes([]byte(understood))
		if err != nil {
			all.notUsed = append(all.notUsed, fmt.Sprintf("%s cannot be read (%v): nothing in it is used", name, err))
			continue
		}
		all.read = append(all.read, config)
	}
	return all, nil
}

// withoutOddBlocks takes out the blocks whose condition cannot be judged here: those would let a
// program run, or ask for what is not known. The lines stay, empty, so that others keep their numbers.
func withoutOddBlocks(text string) (understood string, notUsed []string) {
	var out strings.Builder
	odd := false
	lines := bufio.NewScanner(strings.NewReader(text))
	lines.Buffer(nil, 1<<20)
	for number := 1; lines.Scan(); number++ {
		line := lines.Text()
		words := strings.Fields(strings.Replace(line, "=", " ", 1))
		if len(words) > 0 {
			switch strings.ToLower(words[0]) {
			case "host":
				odd = false
			case "match":
				how := strings.ToLower(strings.Join(words[1:], " "))
				first, rest, _ := strings.Cut(how, " ")
				odd = how != "all" && (first != "host" && first != "originalhost" || len(strings.Fields(rest)) != 1)
				if odd {
					notUsed = append(notUsed, fmt.Sprintf("line %d: %q cannot be judged here, and the settings below it are not used", number, strings.TrimSpace(line)))
				} else if first == "originalhost" {
					line = "Host " + strings.ReplaceAll(words[2], ",", " ")
				}
			}
		}
		if odd {
			line = ""
		}
		out.WriteString(line + "\n")
	}
	return out.String(), notUsed
}

// first is the first value of a setting; "" if none.
func (c *configs) first(alias, key string) string {
	for _, config := range c.read {
		if value, err := config.Get(alias, key); err == nil && value != "" {
			return unquoted(value)
		}
	}
	return ""
}

// every lists all values of a setting.
func (c *configs) every(alias, key string) (values []string) {
	for _, config := range c.read {
		found, err := config.GetAll(alias, key)
		if err != nil {
			continue
		}
		for _, value := range found {
			values = append(values, unquoted(value))
		}
	}
	return values
}

func unquoted(value string) string {
	if len(value) > 1 && value[0] == '"' && value[len(value)-1] == '"' {
		return value[1 : len(value)-1]
	}
	return value
}

// settingsFor works out what counts for a destination.
func (c *configs) settingsFor(to Destination) (*Settings, error) {
	s := &Settings{Alias: to.Host, NotUsed: c.notUsed}
	s.User = cmp.Or(to.User, c.first(to.Host, "User"), c.files.Name)
	s.HostName = strings.NewReplacer("%h", to.Host, "%%", "%").Replace(cmp.Or(c.first(to.Host, "HostName"), to.Host))
	s.Port = to.Port
	if text := c.first(to.Host, "Port"); s.Port == 0 && text != "" {
		port, err := strconv.Atoi(text)
		if err != nil || port < 1 || port > 65535 {
			return nil, fmt.Errorf("your settings of ssh give %s the port %q; ports are from 1 to 65535", to.Host, text)
		}
		s.Port = port
	}
	s.Port = cmp.Or(s.Port, 22)
	s.HostKeyAlias = c.first(to.Host, "HostKeyAlias")
	s.IdentitiesOnly = strings.EqualFold(c.first(to.Host, "IdentitiesOnly"), "yes")
	for _, name := range c.every(to.Host, "IdentityFile") {
		if !strings.EqualFold(name, "none") {
			s.IdentityFiles = append(s.IdentityFiles, c.path(name, s))
		}
	}
	if len(s.IdentityFiles) == 0 {
		for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
			s.IdentityFiles = append(s.IdentityFiles, filepath.Join(c.files.Home, ".ssh", name))
		}
	}
	for _, name := range c.every(to.Host, "CertificateFile") {
		s.Certificates = append(s.Certificates, c.path(name, s))
	}
	s.Agent = c.agent(to.Host, s)
	for _, list := range []string{cmp.Or(c.first(to.Host, "UserKnownHostsFile"), "~/.ssh/known_hosts ~/.ssh/known_hosts2"), cmp.Or(c.first(to.Host, "GlobalKnownHostsFile"), "/etc/ssh/ssh_known_hosts")} {
		for _, name := range strings.Fields(list) {
			if !strings.EqualFold(name, "none") {
				s.KnownHosts = append(s.KnownHosts, c.path(unquoted(name), s))
			}
		}
	}
	if command := c.first(to.Host, "ProxyCommand"); command != "" && !strings.EqualFold(command, "none") {
		s.NotUsed = append(s.NotUsed, "ProxyCommand of "+to.Host+": Wetland runs no program to reach a host. Where that is another host on the way, ProxyJump does the same")
	}
	return s, c.jumps(to.Host, s)
}

func (c *configs) agent(alias string, s *Settings) string {
	named := c.first(alias, "IdentityAgent")
	switch {
	case named == "" || named == "SSH_AUTH_SOCK":
		return c.files.Agent
	case strings.EqualFold(named, "none"):
		return ""
	case strings.HasPrefix(named, "$"):
		return os.Getenv(strings.Trim(named[1:], "{}"))
	}
	return c.path(named, s)
}

// jumps reads the hosts on the way: "A,B" is by A, then by B.
func (c *configs) jumps(alias string, s *Settings) error {
	list := c.first(alias, "ProxyJump")
	if list == "" || strings.EqualFold(list, "none") {
		return nil
	}
	for one := range strings.SplitSeq(list, ",") {
		one = strings.TrimSpace(one)
		if !strings.HasPrefix(one, Scheme) {
			one = Scheme + one
		}
		jump, err := ParseDestination(one)
		if err != nil {
			return fmt.Errorf("ProxyJump of %s: %w", alias, err)
		}
		s.Jumps = append(s.Jumps, jump)
	}
	return nil
}

// path is a file that the settings name: "~" is the user's home, and signs stand for what is known.
func (c *configs) path(name string, s *Settings) string {
	if rest, ok := strings.CutPrefix(name, "~/"); ok {
		name = filepath.Join(c.files.Home, rest)
	}
	return strings.NewReplacer("%d", c.files.Home, "%h", s.HostName, "%n", s.Alias, "%p", strconv.Itoa(s.Port), "%r", s.User, "%u", c.files.Name, "%%", "%").Replace(name)
}

// name is how known hosts call the host.
func (s *Settings) name() string {
	name := cmp.Or(s.HostKeyAlias, s.HostName)
	if s.Port == 22 || s.HostKeyAlias != "" {
		return name
	}
	return fmt.Sprintf("[%s]:%d", name, s.Port)
}

package access

import (
	"errors"
	"fmt"
	"maps"
	"net"
	"net/url"
	"slices"
	"strings"
)

// settings are the parameters of a connection string.
type settings map[string]string

// parse takes a connection string apart, a URL or keyword=value as libpq has them. What the
// environment says (PGHOST, PGPASSWORD, a service file, …) is none of its business: it would be
// meant for whatever is connected to.
func parse(conn string) (settings, error) {
	var s settings
	var err error
	if strings.HasPrefix(conn, "postgres://") || strings.HasPrefix(conn, "postgresql://") {
		s, err = parseURL(conn)
	} else {
		s, err = parseKeywords(conn)
	}
	if err != nil {
		return nil, fmt.Errorf("the connection string cannot be read: %w", err)
	}
	for _, secret := range []string{"password", "sslpassword"} {
		if _, given := s[secret]; given {
			return nil, errors.New("the connection string holds a password, which others could see; leave it out and give the password " +
				"apart")
		}
	}
	for _, elsewhere := range []string{"service", "servicefile", "passfile"} {
		if _, given := s[elsewhere]; given {
			return nil, fmt.Errorf("the connection string refers to a file with %s=; write out what stands there", elsewhere)
		}
	}
	if s["host"] == "" && s["hostaddr"] == "" {
		return nil, errors.New("the connection string names no host; write host=… port=… user=… dbname=…")
	}
	if s["user"] == "" {
		return nil, errors.New("the connection string names no user; add user=…")
	}
	return s, nil
}

func parseURL(conn string) (settings, error) {
	u, err := url.Parse(conn)
	if err != nil {
		return nil, errors.New("it is no URL")
	}
	s := make(settings)
	if u.User != nil {
		s["user"] = u.User.Username()
		if _, given := u.User.Password(); given {
			s["password"] = ""
		}
	}
	var hosts, ports []string
	for _, h := range strings.Split(u.Host, ",") {
		host, port, err := net.SplitHostPort(h)
		if err != nil {
			host, port = strings.Trim(h, "[]"), ""
		}
		hosts, ports = append(hosts, host), append(ports, port)
	}
	if u.Host != "" {
		s["host"] = strings.Join(hosts, ",")
		if joined := strings.Join(ports, ","); strings.Trim(joined, ",") != "" {
			s["port"] = joined
		}
	}
	if name := strings.TrimPrefix(u.Path, "/"); name != "" {
		s["dbname"] = name
	}
	for key, values := range u.Query() {
		s[strings.ToLower(key)] = values[len(values)-1]
	}
	return s, nil
}

// parseKeywords reads words of the form key = value, of which the value may stand in single quotes.
func parseKeywords(conn string) (settings, error) {
	s := make(settings)
	rest := strings.TrimSpace(conn)
	for rest != "" {
		key, after, ok := strings.Cut(rest, "=")
		key = strings.TrimSpace(key)
		if !ok || key == "" || strings.ContainsAny(key, " \t\n'") {
			return nil, fmt.Errorf("%q is not of the form keyword=value", strings.Fields(rest)[0])
		}
		value, left, err := firstValue(strings.TrimLeft(after, " \t\n"))
		if err != nil {
			return nil, fmt.Errorf("the value of %s: %w", key, err)
		}
		s[strings.ToLower(key)] = value
		rest = strings.TrimSpace(left)
	}
	return s, nil
}

func firstValue(text string) (value, rest string, err error) {
	quoted := strings.HasPrefix(text, "'")
	if quoted {
		text = text[1:]
	}
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\' && i+1 < len(text):
			i++
			b.WriteByte(text[i])
		case quoted && c == '\'':
			return b.String(), text[i+1:], nil
		case !quoted && strings.IndexByte(" \t\n", c) >= 0:
			return b.String(), text[i:], nil
		default:
			b.WriteByte(c)
		}
	}
	if quoted {
		return "", "", errors.New("its quote is not closed")
	}
	return b.String(), "", nil
}

// String writes the parameters as keyword=value.
func (s settings) String() string {
	var words []string
	for _, key := range slices.Sorted(maps.Keys(s)) {
		value := strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s[key])
		words = append(words, key+"='"+value+"'")
	}
	return strings.Join(words, " ")
}

// secure fills in how the server must prove itself, where the string does not say: over a network
// with a certificate that is verified, and never by being told the password.
func (s settings) secure() {
	if _, said := s["sslmode"]; !said {
		s["sslmode"] = "prefer"
		if !s.near() {
			s["sslmode"] = "verify-full"
		}
	}
	if _, said := s["require_auth"]; !said {
		s["require_auth"] = "scram-sha-256,none"
	}
	if _, said := s["port"]; !said {
		s["port"] = "5432"
	}
	if _, said := s["dbname"]; !said {
		s["dbname"] = s["user"]
	}
}

// near tells whether all hosts are this machine: nobody can listen in between.
func (s settings) near() bool {
	hosts := s["host"]
	if addr := s["hostaddr"]; addr != "" {
		hosts = addr
	}
	for _, h := range strings.Split(hosts, ",") {
		if ip := net.ParseIP(h); h != "localhost" && !strings.HasPrefix(h, "/") && (ip == nil || !ip.IsLoopback()) {
			return false
		}
	}
	return true
}

// Unverified tells whether the connection goes over a network without the server's certificate
// being verified: somebody decided so, by writing an sslmode into the connection string.
func (a Access) Unverified() bool {
	s, err := parse(a.ConnString)
	if err != nil || s.near() {
		return false
	}
	s.secure()
	return s["sslmode"] != "verify-full" && s["sslmode"] != "verify-ca"
}

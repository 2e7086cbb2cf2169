package survey

import (
	"path"
	"slices"
	"strings"
)

// assigned lists what is put into the environment that decides something, as NAME=VALUE: a shell's
// assignments, systemd's Environment= and pam_env's NAME DEFAULT=VALUE.
func assigned(_ []byte, lines []string) []string {
	return assignments(lines, func(name, _ string) bool { return decidingVariable(name) })
}

// assignedMore lists, as assigned does, what an earlier reader did not look for.
func assignedMore(_ []byte, lines []string) []string { return assignments(lines, decidesMore) }

func assignments(lines []string, decides func(name, value string) bool) (out []string) {
	for _, l := range lines {
		fields := shellWords(l)
		for _, f := range fields {
			name, value, ok := strings.Cut(f, "=")
			switch name {
			case "Environment", "DefaultEnvironment":
				name, value, ok = strings.Cut(value, "=")
			case "DEFAULT", "OVERRIDE":
				name = fields[0]
			}
			if ok && decides(name, value) {
				out = append(out, name+"="+loginHidden(value))
			}
		}
	}
	return out
}

// decidingVariable reports whether a variable of the environment decides where package managers
// fetch from, by whom, what they believe or what they run.
func decidingVariable(name string) bool {
	return proxyVariable(name) || slices.Contains(strongVariables, name) ||
		strings.HasPrefix(name, "ZYPP") || strings.HasPrefix(name, "FLATPAK_") || strings.HasPrefix(name, "OSTREE_")
}

func proxyVariable(name string) bool {
	switch strings.ToLower(name) {
	case "http_proxy", "https_proxy", "ftp_proxy", "all_proxy", "no_proxy":
		return true
	}
	return false
}

var strongVariables = []string{
	"APT_CONFIG", "LD_PRELOAD", "LD_LIBRARY_PATH", "LD_AUDIT", "GNUPGHOME", "SSL_CERT_FILE", "SSL_CERT_DIR", "CURL_CA_BUNDLE",
	"CURL_HOME", "PYTHONPATH", "PYTHONHOME", "PERL5LIB", "RPM_CONFIGDIR", "DPKG_ROOT", "DPKG_ADMINDIR", "DPKG_FORCE", "SEQUOIA_CRYPTO_POLICY",
}

// decidesMore reports whether a variable decides something for which an earlier reader did not look: dnf takes variables
// of its own from the environment, libraries take modules and configuration from there, and shells what they run first.
func decidesMore(name, value string) bool {
	digit := func(rest string) bool { return len(rest) == 1 && rest[0] >= '0' && rest[0] <= '9' }
	switch {
	case name == "PATH":
		return goesBefore(value)
	case strings.HasPrefix(name, "DNF_VAR_"):
		return true
	case strings.HasPrefix(name, "DNF"), strings.HasPrefix(name, "YUM"):
		return digit(name[3:])
	}
	return slices.Contains(moreVariables, name)
}

var moreVariables = []string{
	"OPENSSL_CONF", "OPENSSL_MODULES", "OPENSSL_ENGINES", "GNUTLS_SYSTEM_PRIORITY_FILE", "GIO_MODULE_DIR", "GIO_EXTRA_MODULES",
	"GCONV_PATH", "HOSTALIASES", "BASH_ENV", "PERL5OPT", "PERLLIB", "REQUESTS_CA_BUNDLE",
}

// handedOn reports whether a word of sudo's env_keep, in which * stands for anything, lets a variable through that decides
// something.
func handedOn(word string) bool {
	word, _, _ = strings.Cut(word, "=")
	if !strings.Contains(word, "*") {
		return decidingVariable(word) || decidesMore(word, "")
	}
	all := slices.Concat(strongVariables, moreVariables, []string{
		"http_proxy", "https_proxy", "ftp_proxy", "all_proxy", "no_proxy", "HTTP_PROXY", "HTTPS_PROXY", "FTP_PROXY", "ALL_PROXY", "NO_PROXY",
		"ZYPP_CONF", "ZYPP_REPO_RELEASEVER", "FLATPAK_SYSTEM_DIR", "FLATPAK_CONFIG_DIR", "OSTREE_REPO", "DNF_VAR_mirror", "DNF0", "YUM0",
	})
	return slices.ContainsFunc(all, func(name string) bool {
		is, err := path.Match(word, name)
		return is && err == nil
	})
}

// goesBefore reports whether a search path names a folder before the system's own in which others than it may put programs;
// those of /usr/local are looked into.
func goesBefore(search string) bool {
	if strings.HasPrefix(search, ":") { // wherever one stands
		return true
	}
	first, _, _ := strings.Cut(search, ":")
	for first == "/usr/local/sbin" || first == "/usr/local/bin" {
		_, search, _ = strings.Cut(search, ":")
		first, _, _ = strings.Cut(search, ":")
	}
	switch strings.TrimSuffix(first, "/") {
	case "/usr/sbin", "/usr/bin", "/sbin", "/bin", "$PATH", "${PATH}", "":
		return false
	}
	return true
}

package rpm

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

// What dnf takes for a value of each key, as its library reads it; anything else it warns of
// and goes on with what held before. dnf_values_test.go asks it.
var (
	booleans = []string{
		"countme", "deltarpm", "enabled", "enablegroups", "fastestmirror", "gpgcheck", "module_hotfixes", "proxy_sslverify", "repo_gpgcheck",
		"skip_if_unavailable", "sslverify", "sslverifystatus",
	}
	numbers = []string{
		"cost", "deltarpm_percentage", "max_downloads_per_mirror", "max_parallel_downloads", "priority", "retries",
	}
	spans = map[string]string{ // with the units that each takes
		"bandwidth": "kmg", "minrate": "kmg", "throttle": "kmg%", "metadata_expire": "smhd", "timeout": "smhd",
	}
	chosen = map[string][]string{
		"ip_resolve":        {"ipv4", "ipv6", "4", "6", "whatever"},
		"proxy_auth_method": {"any", "none", "basic", "digest", "negotiate", "ntlm", "digest_ie", "ntlm_wb"},
	}
)

// watched are the keys that are judged where their value counts for more than its validity.
var watched = []string{"enabled", "gpgcheck", "repo_gpgcheck", "priority", "cost"}

// judge notes a value of a repository's key that dnf takes no notice of.
func (r *reader) judge(file string, line int, key, value string) {
	if why := invalid(key, value); why != "" {
		r.Problem(file, line, fmt.Sprintf("dnf takes no notice of %s=%s: %s", key, value, why), false)
	}
}

// invalid says why dnf takes no notice of a value; empty where it does.
func invalid(key, value string) string {
	switch {
	case slices.Contains(watched, key):
		return "" // said where it is read
	case slices.Contains(booleans, key):
		if _, ok := truth(value); ok {
			return ""
		}
		return "it is neither yes nor no"
	case slices.Contains(numbers, key):
		n, ok := leadingNumber(value)
		if !ok {
			return "it is not a number"
		}
		if key == "max_parallel_downloads" && n == 0 {
			return "it must be more than 0"
		}
	case spans[key] != "":
		return invalidSpan(key, value)
	case chosen[key] != nil:
		if !slices.Contains(chosen[key], strings.ToLower(value)) {
			return "it is none of " + strings.Join(chosen[key], ", ")
		}
	}
	return ""
}

// leadingNumber reads what a value begins with, as a C++ stream reads it into 32 bits.
func leadingNumber(value string) (int64, bool) {
	digits := strings.TrimLeft(value, " \t\n\v\f\r")
	end := 0
	if end < len(digits) && (digits[end] == '-' || digits[end] == '+') {
		end++
	}
	for end < len(digits) && digits[end] >= '0' && digits[end] <= '9' {
		end++
	}
	n, err := strconv.ParseInt(digits[:end], 10, 32)
	return n, err == nil
}

// Seconds reads a span of time as dnf does, a number with a unit behind it; never is -1. What does not
// fit into 32 bits is what dnf makes of it.
func Seconds(value string) (seconds int64, ok bool) {
	if invalidSpan("metadata_expire", value) != "" {
		return 0, false
	}
	if value == "-1" || value == "never" {
		return -1, true
	}
	number, unit, _ := startNumber(value)
	number *= map[string]float64{"": 1, "s": 1, "m": 60, "h": 60 * 60, "d": 24 * 60 * 60}[strings.ToLower(unit)]
	if number >= -math.MinInt32 || math.IsNaN(number) {
		return math.MinInt32, true
	}
	return int64(number), true
}

// invalidSpan judges a number that may have a unit behind it.
func invalidSpan(key, value string) string {
	if spans[key] == "smhd" && (value == "-1" || value == "never") {
		return ""
	}
	if value == "" {
		return "it is empty"
	}
	number, unit, ok := startNumber(value)
	switch {
	case !ok:
		return "it is not a number"
	case number < 0:
		return "it must not be below 0"
	case strings.HasPrefix(unit, "%") && number > 100:
		return "it is more than 100 %"
	case len(unit) > 1:
		return "something stands behind its unit"
	case unit != "" && !strings.Contains(spans[key], strings.ToLower(unit)):
		return fmt.Sprintf("the unit %q is not known", unit)
	}
	times := map[string]float64{"k": 1 << 10, "m": 1 << 20, "g": 1 << 30, "": 1}[strings.ToLower(unit)]
	if key == "throttle" && number*times > math.MaxInt32 {
		return "it is beyond 32 bits"
	}
	return ""
}

// startNumber parts a value in the longest start that is a number, as stod takes it, and what stands behind it.
func startNumber(value string) (number float64, rest string, ok bool) {
	for i := len(value); i > 0; i-- {
		digits := strings.TrimLeft(value[:i], " \t\n\v\f\r")
		n, err := strconv.ParseFloat(digits, 64)
		if lower := strings.ToLower(strings.TrimLeft(digits, "+-")); err != nil && strings.HasPrefix(lower, "0x") &&
			!strings.Contains(lower, "p") {
			n, err = strconv.ParseFloat(digits+"p0", 64)
		}
		if errors.Is(err, strconv.ErrRange) {
			return 0, "", false
		}
		if err == nil {
			return n, value[i:], true
		}
	}
	return 0, "", false
}

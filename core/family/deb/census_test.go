package deb

import (
	"maps"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/cell"
)

// idle are the settings of apt 2.6 to 3.3 that decide neither where packages come from nor what is believed, how it
// is fetched or what runs on the way; ** stands for all below.
var idle = strings.Fields(`
	acquire::cdrom acquire::cdrom::autodetect acquire::changelogs::** acquire::compressiontypes::** acquire::connect::** acquire::failure::showip
	acquire::forceipv4 acquire::forceipv6 acquire::ftp::** acquire::gzipindexes acquire::http::pipeline-depth acquire::indextargets
	acquire::indextargets::deb::translations::** acquire::indextargets::randomized acquire::languages acquire::max-pipeline-depth
	acquire::maxreleasefilesize acquire::mirror::** acquire::pdiffs::** acquire::progress::** acquire::queue-mode acquire::queuehost::limit
	acquire::retries::** acquire::samemirrorforallindexes acquire::send-uri-encoded acquire::source-symlinks acquire::uriencode
	apt::acquire::** apt::apport::** apt::audit apt::autoremove::** apt::build-essential apt::build-profiles apt::cache-fallback apt::cache-grow
	apt::cache-hashtablesize apt::cache-limit apt::cache-start apt::cache::** apt::cdrom::** apt::clean-installed apt::cmd::** apt::color::**
	apt::compressor apt::config::dump::** apt::extracttemplates::** apt::force-loopbreak apt::ftparchive::** apt::history::**
	apt::immediate-configure apt::immediate-configure-all apt::install-recommends apt::install-recommends-sections apt::install-suggests
	apt::internal::** apt::keep-downloaded-packages apt::keep-fds apt::list-cleanup apt::mark::** apt::markauto::** apt::moo::**
	apt::move-autobit-sections apt::never-markauto-sections apt::neverautoremove::** apt::output-version apt::pkgpackagemanager::maxloopcount
	apt::protect-kernels apt::solver::install apt::solver::remove apt::solver::removemanual apt::solver::timeout apt::solver::upgrade
	apt::sortpkgs::source apt::status-deb822-fd apt::status-fd apt::update apt::update::error-mode apt::version apt::versionedkernelpackages
	apt::get::allow-remove-essential apt::get::allow-solver-remove-essential apt::get::arch-only apt::get::assume-no apt::get::assume-yes
	apt::get::automaticremove::** apt::get::autosolving apt::get::build-dep-automatic apt::get::callresolver apt::get::compile
	apt::get::diff-only apt::get::download apt::get::download-only apt::get::dsc-only apt::get::fix-broken apt::get::fix-missing
	apt::get::fix-policy-broken apt::get::hideautoremove apt::get::host-architecture apt::get::indep-only apt::get::indextargets::**
	apt::get::list-cleanup apt::get::list-columns apt::get::mark-auto apt::get::only-source apt::get::only-upgrade apt::get::print-uris
	apt::get::purge apt::get::reinstall apt::get::remove apt::get::satisfy-automatic apt::get::show-upgraded
	apt::get::show-user-simulation-note apt::get::show-versions apt::get::simulate apt::get::tar-only apt::get::trivial-only
	apt::get::update::** apt::get::upgrade apt::get::upgrade-allow-new apt::get::upgrade-by-source-package
	dir::apport dir::boot dir::cache::** dir::dpkg::cputable dir::dpkg::triplettable dir::dpkg::tupletable dir::ignore-files-silently
	dir::locale dir::log::** dir::media::mountpath dir::proc::cpuinfo dir::state::cdroms dir::state::mountpoints dir::usr
	dpkg::apportfailurereport dpkg::build-options dpkg::configurepending dpkg::flushstdin dpkg::go dpkg::inhibit-shutdown dpkg::inhibit-sleep
	dpkg::lock::timeout dpkg::maxargbytes dpkg::notriggers dpkg::progress dpkg::progress-fancy::** dpkg::run-directory dpkg::source-options
	dpkg::stoponerror dpkg::triggerspending dpkg::use-pty dpkg::useionice
	apt::archives::** apt::cachefilter::** apt::periodic::** apt-helper::** commandline::asstring debug::** default::** dir::archivedir dir::cachedir
	dir::filelistdir dir::overridedir dpkg::install::recursive::** dpkg::remove::crossgrade::implicit dpkg::selection::** dpkgpm::** edsp::** eipp::**
	orderlist::** packagemanager::** pkgcachefile::** pkgcachegen::essential pkgcachegen::forceimportant pkgcachegen::protected pkgproblemresolver::**
	quiet::** rred::** translation::compress treedefault::**
`)

// classes are what stands in apt's programs in the form of a setting, and is the name of what a message comes from.
var classes = regexp.MustCompile(`^(AcqIndex|aptMethod|CDROMMethod|Cleaner|Debian\w+|FTWScanner|FileFd|HashString|HttpMethod|Item|Method|MultiCompress|ReleaseIndex|` +
	`SourcesWriter|TransItem|Worker|ofstream|pkg(Acq\w*|Cache|CdromTextStatus|DPkgPM|DepCache|Policy|System)|std|string|vector|view)::|[a-z](APT|Debug)::`)

// settingName is a name of a setting as it stands in apt's programs, whole; a compiler cuts some into pieces.
var settingName = regexp.MustCompile(`[\x00 "]([A-Za-z][A-Za-z-]*(?:::[A-Za-z0-9_-]+)+)(?:::)?\x00`)

// Every setting whose name stands in the apt of this machine is judged: it decides something, or is known to decide
// nothing.
func TestEverySettingOfAptIsJudged(t *testing.T) {
	names := cell.Names(t, settingName, "/usr/lib/*/libapt-p*.so.*", "/usr/lib/apt/methods/*", "/usr/lib/apt/apt*", "/usr/bin/apt*")
	maps.DeleteFunc(names, func(name string, _ bool) bool { return classes.MatchString(name) })
	require.Greater(t, len(names), 250)
	unjudged := []string{}
	for name := range names {
		if !judged(name) {
			unjudged = append(unjudged, name)
		}
	}
	slices.Sort(unjudged)
	assert.Empty(t, unjudged, "what do these settings decide?")
}

func judged(name string) bool {
	low := strings.ToLower(name)
	if rest, scoped := strings.CutPrefix(low, "binary::"); scoped {
		_, low, _ = strings.Cut(rest, "::")
	}
	knownNot := func(p string) bool {
		stem, below := strings.CutSuffix(p, "::**")
		return low == stem || below && strings.HasPrefix(low, stem+"::")
	}
	return touch(name) != nil || touch(name+"::x") != nil || slices.ContainsFunc(idle, knownNot)
}

package family

// Install is the command that installs a package with a family's package manager.
func Install(of, name string) string {
	switch of {
	case "rpm":
		return "dnf install " + name
	case "zypp":
		return "zypper install " + name
	case "arch":
		return "pacman -S " + name
	}
	return "apt-get install " + name
}

// Bring is the command that brings back what a package's files say, whether the package
// is installed or not.
func Bring(of, name string) string {
	install := Install(of, name)
	switch of {
	case "rpm":
		return install + ", or dnf reinstall " + name + " where it is installed"
	case "zypp":
		return "zypper install --force " + name
	case "arch":
		return install // it installs again what is there
	}
	return "apt-get install --reinstall -o Dpkg::Options::=--force-confmiss " + name
}

// BroughtBy says which package brings entries that do not stand on a host, and how to get
// them; empty where no package is known.
func BroughtBy(of, name string) string {
	if name == "" {
		return ""
	}
	return "; it comes by the package " + name + ": " + Bring(of, name)
}

package source

// Families of package managers, as surveys, sheets and policies name them.
const (
	FamilyDeb     = "deb"     // apt
	FamilyRpm     = "rpm"     // dnf and yum
	FamilyZypp    = "zypp"    // zypper
	FamilyArch    = "arch"    // pacman
	FamilyFlatpak = "flatpak" // flatpak
)

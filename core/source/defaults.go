package source

import (
	"slices"
	"strings"
)

// settingsOnly are settings for all sources, of which the package manager takes no notice where they stand among the options
// of one, and in zypper's files those of dnf's options that libzypp does not read.
var settingsOnly = words{
	FamilyRpm: "allow_vendor_change assumeno assumeyes autocheck_running_kernel best bugtracker_url cacheonly check_config_file_age " +
		"clean_requirements_on_remove color color_list_available_downgrade color_list_available_install color_list_available_reinstall " +
		"color_list_available_upgrade color_list_installed_extra color_list_installed_newer color_list_installed_older " +
		"color_list_installed_reinstall color_search_match color_update_installed color_update_local color_update_remote comment " +
		"config_file_path debug_solver debuglevel defaultyes destdir disable_excludes " +
		"diskspacecheck errorlevel exclude_from_weak exclude_from_weak_autodetect exit_on_lock gpgkey_dns_verification group_package_types " +
		"history_list_view history_record history_record_packages ignorearch install_weak_deps installonly_limit installonlypkgs " +
		"installroot localpkg_gpgcheck log_compress log_rotate log_size logdir logfilelevel metadata_timer_sync module_obsoletes " +
		"module_platform_id module_stream_switch multilib_policy obsoletes persistdir pluginconfpath pluginpath plugins " +
		"protect_running_kernel recent reposdir reset_nice rpmverbosity showdupesfromrepos skip_broken strict system_cachedir " +
		"transformdb tsflags upgrade_group_objects_upgrade varsdir zchunk",
	FamilyZypp: "bandwidth cost countme deltarpm enablegroups exclude excludepkgs failovermethod fastestmirror includepkgs keepcache " +
		"mediaid module_hotfixes packagespath retries skip_if_unavailable sslcacert sslclientcert sslclientkey sslverify throttle timeout " +
		"ui_repoid_vars user_agent",
	FamilyArch: "rootdir dbpath cachedir logfile gpgdir hookdir holdpkg ignorepkg ignoregroup architecture xfercommand noupgrade " +
		"noextract cleanmethod localfilesiglevel remotefilesiglevel usesyslog color noprogressbar checkspace verbosepkglists " +
		"paralleldownloads disabledownloadtimeout downloaduser disablesandbox ilovecandy",
}

// optionDefaults are what holds where an option of a single source is not said.
var optionDefaults = words{
	FamilyDeb: "allow-weak=no allow-downgrade-to-insecure=no check-valid-until=yes check-date=yes valid-until-min=0 valid-until-max=0 " +
		"date-max-future=10",
	FamilyRpm:  "cost=1000 module_hotfixes=0 skip_if_unavailable=0 sslverify=1 sslverifystatus=0 proxy_sslverify=1 proxy_auth_method=any",
	FamilyZypp: "path=/", FamilyArch: "usage=All", FamilyFlatpak: "xa.nodeps=false tls-permissive=false",
}

// inherited are the settings for all sources that hold in apt's where an option is not said; dnf's have the option's name.
var inherited = words{
	FamilyDeb: "allow-weak=acquire::allowweakrepositories allow-downgrade-to-insecure=acquire::allowdowngradetoinsecurerepositories " +
		"check-valid-until=acquire::check-valid-until check-date=acquire::check-date valid-until-min=acquire::min-validtime " +
		"valid-until-max=acquire::max-validtime date-max-future=acquire::max-futuretime",
}

// words are names by family, each with what it has behind a sign.
type words map[string]string

// of is what a name of a family has; empty where it has nothing, or is not among them.
func (w words) of(family, name string) (value string, among bool) {
	for word := range strings.FieldsSeq(w[family]) {
		if key, value, _ := strings.Cut(word, "="); key == name {
			return value, true
		}
	}
	return "", false
}

// orDefault are options with what holds of one that is not said, unless a setting for all sources has something to say of it.
func orDefault(family, name string, options map[string]string, settings []Setting) map[string]string {
	said := name
	name = strings.ToLower(name)
	usual, known := optionDefaults.of(family, name)
	if !known {
		return options
	}
	for key, value := range options { // to dnf and zypper nothing behind the sign is nothing said
		if strings.EqualFold(key, name) && (value != "" || family != FamilyRpm && family != FamilyZypp) {
			return options
		}
	}
	general, _ := inherited.of(family, name)
	for i := range settings {
		of := strings.ToLower(settings[i].Name)
		if settings[i].Family == family && (of == "main."+name || general != "" && strings.Contains(of, general)) {
			return options
		}
	}
	return map[string]string{said: usual}
}

// uses are what pacman takes a repository for.
func uses(value string) []string {
	if words := strings.Fields(value); !slices.Contains(words, "All") {
		return words
	}
	return []string{"Sync", "Search", "Install", "Upgrade"}
}

// settingDefaults are what holds of settings that surveys tell of though it is said no other way.
var settingDefaults = words{
	FamilyDeb: "apt::ignore-hold=no acquire::max-validtime=0 acquire::min-validtime=0 acquire::max-futuretime=10",
	FamilyZypp: "main.gpgcheck=yes main.locksfile.apply=yes main.solver.allowvendorchange=no main.solver.dupallowvendorchange=no " +
		"main.solver.dupallowdowngrade=yes main.solver.dupallownamechange=yes main.solver.dupallowarchchange=yes",
}

// Usual reports whether a setting says what holds anyway, or what the package manager does not understand, and holds no less for that.
func (t *Setting) Usual() bool {
	usual, known := settingDefaults.of(t.Family, strings.ToLower(t.Name))
	if !known {
		return false
	}
	on, isSwitch := Truth(t.Family, t.Value)
	switch {
	case usual != "yes" && usual != "no":
		return t.Value == usual
	case !isSwitch:
		return true
	}
	return on == (usual == "yes")
}

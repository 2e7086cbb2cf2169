package rpm

import "slices"

// mainOptions are the keys that dnf knows in [main], sorted.
var mainOptions = []string{
	"allow_vendor_change", "assumeno", "assumeyes", "autocheck_running_kernel", "bandwidth", "best", "bugtracker_url", "cachedir", "cacheonly",
	"check_config_file_age", "clean_requirements_on_remove", "color", "color_list_available_downgrade", "color_list_available_install",
	"color_list_available_reinstall", "color_list_available_upgrade", "color_list_installed_extra", "color_list_installed_newer",
	"color_list_installed_older", "color_list_installed_reinstall", "color_search_match", "color_update_installed", "color_update_local",
	"color_update_remote", "comment", "config_file_path", "countme", "debug_solver", "debuglevel", "defaultyes", "deltarpm", "deltarpm_percentage",
	"destdir", "disable_excludes", "diskspacecheck", "enabled", "enablegroups", "errorlevel", "exclude", "exclude_from_weak",
	"exclude_from_weak_autodetect", "excludepkgs", "exit_on_lock", "fastestmirror", "gpgcheck", "gpgkey_dns_verification", "group_package_types",
	"history_list_view", "history_record", "history_record_packages", "ignorearch", "includepkgs", "install_weak_deps", "installonly_limit",
	"installonlypkgs", "installroot", "ip_resolve", "keepcache", "localpkg_gpgcheck", "log_compress", "log_rotate", "log_size", "logdir",
	"logfilelevel", "max_downloads_per_mirror", "max_parallel_downloads", "metadata_expire", "metadata_timer_sync", "minrate", "module_obsoletes",
	"module_platform_id", "module_stream_switch", "multilib_policy", "obsoletes", "password", "persistdir", "pluginconfpath", "pluginpath", "plugins",
	"protect_running_kernel", "protected_packages", "proxy", "proxy_auth_method", "proxy_password", "proxy_sslcacert", "proxy_sslclientcert",
	"proxy_sslclientkey", "proxy_sslverify", "proxy_username", "recent", "repo_gpgcheck", "reposdir", "reset_nice", "retries", "rpmverbosity",
	"showdupesfromrepos", "skip_broken", "skip_if_unavailable", "sslcacert", "sslclientcert", "sslclientkey", "sslverify", "sslverifystatus", "strict",
	"system_cachedir", "throttle", "timeout", "transformdb", "tsflags", "upgrade_group_objects_upgrade", "user_agent", "username", "varsdir", "zchunk",
}

// repoOptions are the keys that dnf knows in other sections, sorted.
var repoOptions = []string{
	"bandwidth", "baseurl", "cachedir", "cost", "countme", "deltarpm", "deltarpm_percentage", "enabled", "enabled_metadata", "enablegroups", "exclude",
	"excludepkgs", "fastestmirror", "gpgcheck", "gpgkey", "includepkgs", "ip_resolve", "max_downloads_per_mirror", "max_parallel_downloads", "mediaid",
	"metadata_expire", "metalink", "minrate", "mirrorlist", "module_hotfixes", "name", "password", "priority", "protected_packages", "proxy",
	"proxy_auth_method", "proxy_password", "proxy_sslcacert", "proxy_sslclientcert", "proxy_sslclientkey", "proxy_sslverify", "proxy_username",
	"repo_gpgcheck", "retries", "skip_if_unavailable", "sslcacert", "sslclientcert", "sslclientkey", "sslverify", "sslverifystatus", "throttle",
	"timeout", "type", "user_agent", "username",
}

func known(options []string, key string) bool {
	_, ok := slices.BinarySearch(options, key)
	return ok
}

package change_test

import "testing"

// What the system runs at its times tells package managers things of its own, which hold whatever is configured.
func TestWhatHandsTellTasks(t *testing.T) {
	const (
		change, all = "setting-changed danger", "trust, transport, program"
		nightly     = "etc/systemd/system/nightly.service"
		drop        = "etc/cron.d/nightly"
	)
	told := func(does, file, text string) hand {
		return hand{does: does, file: file, text: text, want: change, field: all, stays: true}
	}
	hands(t, debPlace().with(tree{
		"etc/crontab": "SHELL=/bin/sh\n17 * * * * root cd / && run-parts --report /etc/cron.hourly\n",
		nightly:       "[Service]\nExecStart=/usr/bin/apt-get -y upgrade\n",
	}), []hand{
		told("nothing is checked at night", drop, "5 4 * * * root apt-get update && apt-get -y --allow-unauthenticated upgrade\n"),
		told("another setting at night", drop, "5 4 * * * root apt-get -oAcquire::AllowInsecureRepositories=1 update\n"),
		told("another in two words", drop, "5 4 * * * root /usr/bin/apt-get -y -o Dir::Etc::sourcelist=/srv/x update\n"),
		told("another configuration", "etc/crontab", "5 4 * * * root apt-get -c/srv/x update\n"),
		told("on two lines", "etc/cron.daily/nightly", "#!/bin/sh\napt-get update \\\n  --allow-insecure-repositories\n"),
		told("in a word of a shell's", drop, "5 4 * * * root sh -c 'apt-get --allow-downgrades upgrade'\n"),
		told("a package from elsewhere", "var/spool/cron/crontabs/root", "@daily dpkg -i /srv/x.deb\n"),
		told("a source more", "etc/rc.local", "#!/bin/sh\nadd-apt-repository -y 'deb http://elsewhere.example/ x main'\n"),
		told("a unit with an option", nightly, "[Service]\nExecStart=-/usr/bin/apt-get -t elsewhere upgrade\n"),
		told("a unit with other programs", nightly, "[Service]\nEnvironment=LD_PRELOAD=/srv/x.so\nExecStart=/usr/bin/apt-get upgrade\n"),
		{does: "a unit with a proxy", file: nightly, text: "[Service]\nEnvironment=" + proxied + "\nExecStart=/usr/bin/apt-get upgrade\n",
			want: "setting-changed fault", field: "transport", stays: true},

		{does: "what is as ever", file: drop, text: "5 4 * * * root apt-get -qq update && apt-get -y upgrade\n"},
		{does: "what decides nothing", file: drop,
			text: "5 4 * * * root apt-get -y -o Dpkg::Options::=--force-confold --no-install-recommends -o=Debug::x=1 dist-upgrade\n"},
		{does: "what was left half done is finished", file: drop, text: "@reboot root dpkg --force-confold --configure -a\n"},
		{does: "it only looks", file: drop, text: "5 4 * * * root dpkg -l | mail -s packages ola; rpm -qa; apt list --upgradable\n"},
		{does: "a comment", file: drop, text: "# apt-get --allow-unauthenticated upgrade\n"},
		{does: "another program", file: drop, text: "http_proxy=http://elsewhere.example:3128\n5 4 * * * root tern --force http://elsewhere.example/\n"},
		{does: "a name that cron does not read", file: "etc/cron.d/nightly.bak", text: "5 4 * * * root apt-get --allow-unauthenticated upgrade\n"},
		{does: "another unit", file: "etc/systemd/system/tern.service", text: "[Service]\nExecStart=/usr/bin/tern --root /srv\n"},
	})
	others := func(t *testing.T, p place, commands ...string) {
		t.Helper()
		var list []hand
		for _, c := range commands {
			list = append(list, told(c, "etc/cron.d/own", "5 4 * * * root "+c+"\n"))
		}
		hands(t, p, list)
	}
	t.Run("a name with a dot", func(t *testing.T) {
		hands(t, rpmPlace(), []hand{
			told("cronie reads it", "etc/cron.d/own.sh", "5 4 * * * root dnf -y --nogpgcheck upgrade\n"),
			{does: "a copy that it does not read", file: "etc/cron.d/own.rpmsave", text: "5 4 * * * root dnf -y --nogpgcheck upgrade\n"},
		})
	})
	t.Run("dnf", func(t *testing.T) {
		others(t, rpmPlace(), "dnf -y --nogpgcheck upgrade", "dnf --setopt=sslverify=0 makecache", "yum --repofrompath=x,http://elsewhere.example/ -y upgrade",
			"dnf config-manager --add-repo /srv/x.repo", "rpm -Uvh /srv/x.rpm", "rpm --import /srv/x.asc", "dnf -y install https://elsewhere.example/x.rpm")
	})
	t.Run("zypper", func(t *testing.T) {
		others(t, zyppPlace(t), "zypper --no-gpg-checks -n up", "zypper -n ar -G http://elsewhere.example x", "zypper -n dup --from x", "zypper mr -p 1 x")
	})
	t.Run("pacman", func(t *testing.T) {
		others(t, archPlace(), "pacman -Syu --config /srv/pacman.conf", "pacman -U /srv/x.pkg.tar.zst", "pacman-key --lsign-key mira")
	})
	t.Run("flatpak", func(t *testing.T) {
		others(t, flatpakPlace(), "flatpak remote-modify --no-gpg-verify gulls", "flatpak install --no-deps http://elsewhere.example/x")
	})
}

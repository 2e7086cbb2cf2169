"""Draws version locks and asks dnf 5 what it would install under them: dnf5locks.py > dnf5locks.json, on a machine with dnf5."""
import hashlib
import json
import os
import random
import re
import subprocess
import tempfile

ROOT = tempfile.mkdtemp()
REPODATA = ROOT + "/repo/repodata"
PACKAGE = """<package type="rpm"><name>tide-a</name><arch>{arch}</arch><version epoch="{epoch}" ver="{version}" rel="{release}"/>
<checksum type="sha256" pkgid="YES">{digest}</checksum><summary>s</summary><description/><packager/><url/><time file="1" build="1"/>
<size package="1" installed="1" archive="1"/><location href="{file}"/><format><rpm:license>x</rpm:license><rpm:vendor/><rpm:group/>
<rpm:buildhost/><rpm:sourcerpm/><rpm:header-range start="1" end="2"/></format></package>
"""


def repository():
    os.makedirs(REPODATA)
    builds = [(v, a) for v in ["0:1.0-1", "0:1.0-2", "0:2.0-1", "1:1.0-1"] for a in ["x86_64", "noarch", "i686"]]
    text = '<?xml version="1.0"?>\n<metadata xmlns="http://linux.duke.edu/metadata/common" xmlns:rpm="http://linux.duke.edu/metadata/rpm" '
    text += f'packages="{len(builds)}">\n'
    for edition, arch in builds:
        epoch, version, release = re.split("[:-]", edition)
        file = f"tide-a-{version}-{release}.{arch}.rpm"
        digest = hashlib.sha256((file + epoch).encode()).hexdigest()
        text += PACKAGE.format(**locals())
    text += "</metadata>\n"
    with open(REPODATA + "/primary.xml", "w") as f:
        f.write(text)
    digest = hashlib.sha256(text.encode()).hexdigest()
    with open(REPODATA + "/repomd.xml", "w") as f:
        f.write('<?xml version="1.0"?>\n<repomd xmlns="http://linux.duke.edu/metadata/repo"><revision>1</revision><data type="primary">')
        f.write(f'<checksum type="sha256">{digest}</checksum><open-checksum type="sha256">{digest}</open-checksum>')
        f.write('<location href="repodata/primary.xml"/><timestamp>1</timestamp></data></repomd>\n')
    os.makedirs(ROOT + "/repos")
    with open(ROOT + "/repos/r.repo", "w") as f:
        f.write(f"[r]\nname=r\nbaseurl=file://{ROOT}/repo\ngpgcheck=0\n")


def condition():
    key = random.choice(["evr", "evr", "evr", "arch", "epoch", "version"])
    sign = random.choice(["=", "=", "!=", "<", "<=", ">", ">=", "==", "~", " ="])
    value = random.choice(["0:1.0-1", "1.0-1", "1.0-2", "0:1.0-2", "2.0-1", "1:1.0-1", "1.0", "2.0", "0:1.0-*", "1:0", "3", "0:0"])
    if key == "arch":
        value = random.choice(["x86_64", "noarch", "i686", "x86*"])
        sign = random.choice(["=", "!=", "==", "<"])
    elif key == "epoch":
        value = random.choice(["0", "1", "2", ""])
    parts = [f'key = "{key}"\n', f'comparator = "{sign}"\n', f'value = "{value}"\n']
    if random.random() < 0.05:
        parts.pop(random.randrange(3))
    random.shuffle(parts)
    return "[[packages.conditions]]\n" + "".join(parts)


def locks():
    text = random.choices(['version = "1.0"\n', 'version = "1"\n', ""], [20, 1, 1])[0]
    for _ in range(random.choice([1, 1, 1, 2, 2, 3])):
        text += "[[packages]]\n"
        if random.random() < 0.97:
            name = random.choice(["tide-a", "tide-a", "tide-a", "tide-*", "tide-[ab]", "tide", "other", "tide-b", "TIDE-A"])
            text += f'name = "{name}"\n'
        if random.random() < 0.3:
            text += 'comment = "as the reef wants it"\n'
        for _ in range(random.choice([1, 1, 1, 2, 2, 0])):
            text += condition()
    return text


def takes(text):
    os.makedirs(ROOT + "/etc/dnf", exist_ok=True)
    with open(ROOT + "/etc/dnf/versionlock.toml", "w") as f:
        f.write(text)
    ask = ["dnf5", "--installroot=" + ROOT, "--setopt=reposdir=" + ROOT + "/repos", "--releasever=9", "--forcearch=x86_64"]
    said = subprocess.run(ask + ["install", "--assumeno", "tide-a"], capture_output=True, text=True)
    taken = re.search(r"^ *tide-a +(\S+) +(\S+) +r ", said.stdout + said.stderr, re.M)
    if taken:
        return taken.group(2).removeprefix("0:") + "." + taken.group(1)
    assert "excluded by versionlock" in said.stdout + said.stderr, said
    return ""


random.seed(20261128)
repository()
drawn = [locks() for _ in range(220)]
print(json.dumps([{"lock": text, "takes": takes(text)} for text in drawn], indent=1))

"""The `debian` driver: a Linux host over SSH, by its own dpkg, apt and systemd.

What it reads needs no rights. What it changes goes through sudo, by the few commands that SUDO lists, and long work is
begun detached: it goes on when the connection breaks, and its end is found again by its number.
"""

from __future__ import annotations

import itertools
import re
import shlex
from collections.abc import AsyncIterator, Iterator, Sequence
from typing import NamedTuple
from urllib.parse import unquote

from gallant.core.ports import Act, DeviceRefused, Progress, Tested
from gallant.core.readings import IMAGE, Alarm
from gallant.core.records import clean
from gallant.core.shapes import SHAPES
from gallant.core.versions import parse
from gallant.drivers.answers import Ours
from gallant.drivers.base import hiding
from gallant.drivers.calls import RunCommand
from gallant.drivers.profile import Profile, every_call, fill
from gallant.drivers.shell import ShellDriver
from gallant.drivers.tools import Acts, Asked, Exporter, Exports, Fields, Reads

PUBLISHER = "deb"  # of products that come from a channel of packages
# Conffiles that a person changed stay; new ones are laid next to them (dpkg(1), --force-conf…).
KEEP_CONFFILES = "-o Dpkg::Options::=--force-confdef -o Dpkg::Options::=--force-confold"
APT = f"/usr/bin/apt-get -y -q {KEEP_CONFFILES}"
APT_BACK = f"/usr/bin/apt-get -y -q --allow-downgrades {KEEP_CONFFILES}"  # of what is named, and nothing else
ARCHIVES = "/var/cache/apt/archives/"  # what apt brought, and verified, is kept there; only root writes to it
UPDATE = "/usr/bin/apt-get -q update"
TIDY = "/usr/bin/dpkg --force-confdef --force-confold --configure -a"  # after a host lost its power in the middle of it
_NAME = "[a-z0-9][a-z0-9.+-]*=[A-Za-z0-9.+~:-]+"  # Debian policy, 5.6.1 and 5.6.12
_NAMED = f"( {_NAME})+"
_AT_HAND = f"( {_NAME}| {ARCHIVES}[A-Za-z0-9.+~%_-]+[.]deb)+"
# Everything that Gallant ever does with more rights: a command, and its arguments as a regular expression (sudoers(5),
# sudo 1.9.10 or later), so that nothing can be slipped in between.
SUDO: tuple[tuple[str, str, str], ...] = (
    ("/usr/bin/apt-get", f"-y -q {KEEP_CONFFILES} (-d )?install{_NAMED}", "bring and install named versions"),
    ("/usr/bin/apt-get", f"-y -q {KEEP_CONFFILES} -d --reinstall install{_NAMED}", "keep what runs, to go back to"),
    ("/usr/bin/apt-get", f"-y -q --allow-downgrades {KEEP_CONFFILES} install{_AT_HAND}", "go back to named versions"),
    ("/usr/bin/apt-get", "-q update", "ask the channels what is new"),
    ("/usr/bin/dpkg", "--force-confdef --force-confold --configure -a", "finish what was cut off"),
    ("/usr/bin/systemctl", "restart [A-Za-z0-9:_.@-]+", "restart a service"),
    ("/usr/bin/systemctl", "reboot --message=.*", "restart the host, with the reason in its journal"),
    ("/usr/bin/tar", "-C / --one-file-system -cf - etc", "back up /etc"),
)
JOBS = ".gallant-jobs"  # in the account's home
LISTED_MOST = 20
LOST = "lost"  # a job of which nothing lives, and which never said how it ended
ROUTES = {"route": "default route", "route6": "default route IPv6"}
DEFAULT_REASON = "an update needs it"
ABOUT = r"""
echo "serial=$(cat /etc/machine-id)"
echo "boot=$(cat /proc/sys/kernel/random/boot_id)"
. /etc/os-release; echo "version=$(cat /etc/debian_version 2>/dev/null || echo "$VERSION_ID")"
echo "model=$PRETTY_NAME $(uname -m)"
echo "kernel=$(uname -r)"
echo "newest=$(ls -v /boot/vmlinuz-* 2>/dev/null | tail -n 1 | sed 's,.*/vmlinuz-,,')"
echo "clock=$(date -u +%Y-%m-%dT%H:%M:%S.%3NZ)"
test -e /run/reboot-required && echo "restart=wanted"
test -e /run/reboot-required.pkgs && sort -u /run/reboot-required.pkgs | sed 's/^/for=/'
df -B1 --output=avail /var/cache/apt 2>/dev/null | tail -n 1 | sed 's/^ */free=/'
awk '/^MemAvailable:/ {print "memory=" $2 * 1024}' /proc/meminfo
exit 0
"""
# What became of one job: nothing while it runs, else its exit status, its kind, and of one that failed what it said of
# that. Whether it lives is asked before its end is read: one that ends in between has its end, and is not lost. One
# that is just being begun has no number yet; one that still has none after a minute lost it with the power.
ONE_JOB = r"""
    process= begun=; test -e JOB.pid && read -r process begun < JOB.pid; begun=${begun:-$boot}
    if test -z "$process"; then lives=$(find JOB.log -mmin -1)
    elif test "$begun" = "$boot" && kill -0 "$process" 2>/dev/null; then lives=yes
    else lives=; fi
    end=$(cat JOB.end 2>/dev/null)
    case "$end" in
      "0 "*) echo "JOB $end";;
      "") test -n "$lives" && echo JOB || echo "JOB lost";;
      *) echo "JOB $end $(grep -a -m 1 '^E: ' JOB.log || tail -n 1 JOB.log)";;
    esac
"""
LISTED_JOBS = f"""
cd ~/{JOBS} 2>/dev/null || exit 0
boot=$(cat /proc/sys/kernel/random/boot_id)
for job in $(ls -tr *.log 2>/dev/null | tail -n {LISTED_MOST}); do
  job=${{job%.log}}
  {ONE_JOB.replace("JOB", "$job")}
done
exit 0
"""
PARTS = "dpkg-query -W -f='${db:Status-Abbrev}\\t${Package}\\t${Version}\\t${Architecture}\\n'"
# What is installed, what the channels have of that, and what the host kept; `NAMES` are packages (none: all).
AT_HAND = r"""
have=$(dpkg-query -W -f='${Package}=${Version}\n' NAMES 2>/dev/null)
printf '%s\n' "$have" | sed 's/^/have /'
apt-cache madison $(printf '%s\n' "$have" | sed 's/=.*//' | sort -u) 2>/dev/null |
awk -F' *[|] *' '{gsub(/ /, "", $1); print "channel " $1 "=" $2}'
for file in ARCHIVES*.deb; do test -e "$file" && echo "kept ${file##*/}"; done
exit 0
""".replace("ARCHIVES", ARCHIVES)
KEPT_BACK = "apt-mark showhold 2>/dev/null; exit 0"
# Each conffile's sum as its package brought it, held against what lies there now.
CONFFILES = r"""
dpkg-query -W -f='${Conffiles}\n' | awk 'NF == 2 {print $2 "  " $1}' | LC_ALL=C md5sum -c --quiet 2>/dev/null |
sed -n 's/: FAILED.*//p'
exit 0
"""
# A service that still has a deleted library open runs the old one; only what the account may see is looked at.
REPLACED = r"""
for maps in /proc/[0-9]*/maps; do
  if grep -qE '\.so[.0-9]* \(deleted\)$' "$maps" 2>/dev/null; then
    sed -n 's,.*/\([^/]*\.service\)$,\1,p' "${maps%maps}cgroup" 2>/dev/null
  fi
done | sort -u
exit 0
"""
SERVICES = "systemctl list-units --type=service --state=running,failed --plain --no-legend 2>/dev/null; exit 0"
# What lies around the work, to be compared: ports, units, mounts, addresses, routes, and errors in the journal.
CLOSELY = r"""
ss -Hltn 2>/dev/null | awk '{print "port " $4}'
systemctl list-units --state=failed --plain --no-legend 2>/dev/null | awk '$1 !~ /[.]service$/ {print "failed " $1}'
findmnt -rno TARGET,FSTYPE --real 2>/dev/null | awk '$2 !~ /^(tmpfs|overlay|squashfs|nsfs|fuse.*)$/ &&
  $1 !~ /^\/(run|proc|sys|dev|snap|var\/lib\/(docker|containers|kubelet))(\/|$)/ {print "mount " $1}'
ip -o addr show scope global 2>/dev/null | awk '!/ temporary / {print "address " $4 " " $2}'
ip route show default 2>/dev/null | sed 's/^/route /'
ip -6 route show default 2>/dev/null | sed 's/^/route6 /'
journalctl -q -p 2 -n 50 -o short-iso --no-pager 2>/dev/null | sed 's/^/stop /'
journalctl -q -p 3..3 -n 50 -o short-iso --no-pager 2>/dev/null | sed 's/^/warn /'
exit 0
"""
OF_THE_MOMENT = 32768  # the first of the ports that a system gives out as it likes (ip(7), ip_local_port_range)
SESSIONS = "who 2>/dev/null | wc -l"
# The host's own view of its channels: their Release files alone, into a folder that is thrown away.
CHANNELS = r"""
there=$(mktemp -d) || exit 0
mkdir -p "$there/lists/partial" "$there/cache/archives/partial"
LC_ALL=C apt-get update -q -o Dir::State::Lists="$there/lists" -o Dir::Cache="$there/cache" -o APT::Sandbox::User= \
  -o Acquire::IndexTargets::deb::Packages::DefaultEnabled=false \
  -o Acquire::IndexTargets::deb::Translations::DefaultEnabled=false \
  -o Acquire::http::Timeout=8 -o Acquire::https::Timeout=8 -o Acquire::Retries=0 2>&1 | sed 's/^/said /'
rm -rf "$there"
sed -n -E 's,^[^#]*https?://([^/:[:space:]]+).*,\1,p' /etc/apt/sources.list /etc/apt/sources.list.d/* 2>/dev/null |
sort -u |
while read -r host; do
  getent ahosts "$host" >/dev/null 2>&1 && echo "name $host known" || echo "name $host unknown"
done
blank='[[:space:]]*'; gap='[[:space:]]+'; word='([^[:space:]]+)'
line="s/^$blank(#?)${blank}deb$gap(\\[[^]]*\\]$gap)?$word$gap$word.*/line \\1 \\3 \\4/p"
for file in /etc/apt/sources.list /etc/apt/sources.list.d/*.list; do
  test -r "$file" && sed -n -E "$line" "$file"
done
for file in /etc/apt/sources.list.d/*.sources; do
  test -r "$file" && awk -v RS= '{
    n = split($0, rows, "\n"); on = "yes"; types = ""; uris = ""; suites = ""
    for (i = 1; i <= n; i++) {
      split(rows[i], kv, ": "); value = substr(rows[i], index(rows[i], ":") + 2)
      if (kv[1] == "Types") types = value; if (kv[1] == "URIs") uris = value
      if (kv[1] == "Suites") suites = value; if (kv[1] == "Enabled") on = value
    }
    if (types ~ /(^| )deb( |$)/) { m = split(uris, u, " "); k = split(suites, s, " ")
      for (i = 1; i <= m; i++) for (j = 1; j <= k; j++) print "line " (on == "no" ? "#" : "") " " u[i] " " s[j] }
  }' "$file"
done
exit 0
"""


def sudoers(user: str, profile: Profile | None = None) -> str:
    """The lines of a sudoers file that give `user` what Gallant needs, and no more; with what a profile's calls
    need."""

    def line(command: str, arguments: str) -> str:
        if not arguments:
            return f'{user} ALL=(root) NOPASSWD: {command} ""'
        return f"{user} ALL=(root) NOPASSWD: {command} ^{re.sub('([,:=])', _BACKSLASH, arguments)}$"

    every = [*SUDO, *(_elevated(profile) if profile is not None else ())]
    rows = "\n".join(
        f"# {why}\n{line(command, arguments) if command else _UNHELD}" for command, arguments, why in every
    )
    return f"# What Gallant may do on this host. Check with: visudo -cf FILE\n{rows}\n"


def _elevated(profile: Profile) -> Iterator[tuple[str, str, str]]:
    """The commands of a profile's calls that need more rights; a field is one word without blanks. No command where it
    is a script, which no rule can hold to what it says."""
    told: set[str] = set()
    for path, call, _ in every_call(profile):
        if not isinstance(call, RunCommand) or not call.elevated:
            continue
        for text in call.lines if call.detached else (call.run,):
            if text not in told:
                told.add(text)
                why = f"{profile.name}: {' '.join(str(word) for word in path[:2])}"
                command, _, arguments = text.partition(" ")
                if not command.startswith("/") or command in _SHELLS or "\n" in text:
                    yield "", "", why
                    continue
                parts = re.split(r"(\{[a-z_0-9]+\})", arguments)
                pattern = "".join(_WORD if part.startswith("{") else re.escape(part) for part in parts)
                yield command, pattern.replace("\\ ", " ").replace("\\-", "-"), why


_WORD = "[A-Za-z0-9._+~:-]+"
_SHELLS = ("/bin/sh", "/usr/bin/sh", "/bin/bash", "/usr/bin/bash")
_UNHELD = (
    "#   a script, or no full path: sudo cannot hold an account to it. Let the account for the work be root, or one"
    " that may do all"
)
_BACKSLASH = r"\\\1"


def _way(words: Sequence[str]) -> Iterator[str]:
    """By whom and over which interface a route leads; how it came to be does not matter."""
    for key, value in itertools.pairwise(words):
        if key in ("via", "dev"):
            yield f"{key} {value}"


class DebianDriver(ShellDriver):
    """One system's nodes, each a Linux host with dpkg, apt and systemd."""

    own_parts = ("OS package", "!kernel")  # what runs as the kernel is not the name of a package
    own_fetched = ("OS package",)
    image_from = ("base-files",)  # /etc/debian_version is a file of it

    # --- reads

    def _own_reads(self) -> Reads:
        return {
            "about": self._about,
            "parts": self._parts,
            "at_hand": self._at_hand,
            "facets": self._facets,
            "channels": self._channels,
            "jobs": self._jobs,
            "sessions": self._sessions,
        }

    async def _said(self, node: str, script: str, timeout_s: float | None = None) -> str:
        said = await self.run(node, f"sh -c {shlex.quote(script)}", "read", timeout_s)
        if said.status != 0:
            raise self._ended_badly(node, said.errors.strip() or said.text.strip(), said.status)
        return said.text

    async def _about(self, node: str) -> Fields:
        before = self.clock.now()
        rows = [row.partition("=") for row in (await self._said(node, ABOUT)).splitlines()]
        said = {key: value for key, _, value in rows if key != "for" and value}
        kernel, newest, restart = (said.pop(key, "") for key in ("kernel", "newest", "restart"))
        free = [
            {"name": name, "value": float(size), "unit": "B"}
            for key, name in (("free", "free space"), ("memory", "memory available"))
            if (size := said.pop(key, "").strip()).isdecimal()
        ]
        found = self._heard({**said}, before)
        found.setdefault("serial", self.connections.host_keys.get(node))  # a host that was never given a machine id
        why = [value for key, _, value in rows if key == "for"]
        found["gauges"] = free
        found["facets"] = [{"name": "restart", "state": "wanted" if restart else "not wanted"}]
        found["alarms"] = [{"text": f"a restart is wanted for {', '.join(why[:8])}", "level": "note"}] if why else []
        found["components"] = [
            {"name": "kernel", "kind": "OS package", "product": f"{PUBLISHER}/linux", "version": kernel or "none"}
            | ({"next_version": newest} if newest else {})
        ]
        found["state"] = Ours("in_service")
        found["role"] = Ours(SHAPES[self.system.shape].plain_role)
        return found

    async def _parts(self, node: str) -> Fields:
        rows = [row.split("\t") for row in (await self._said(node, PARTS)).splitlines()]
        return {
            "components": [
                {"name": row[1], "kind": "OS package", "product": f"{PUBLISHER}/{row[1]}", "version": row[2]}
                for row in rows
                if len(row) == 4 and row[0].strip().endswith("i")
            ]
        }

    async def _at_hand(self, node: str) -> Fields:
        """The other versions of its packages that the host could have, and those of which nobody has what it runs."""
        hand = _Hand.of(await self._said(node, AT_HAND.replace("NAMES", ""), 60))
        every = [(name, version) for name, versions in hand.versions.items() for version in versions]
        return {
            "at_hand": [{"name": n, "version": v} for n, v in every if v != hand.runs[n]],
            "not_at_hand": [n for n, v in hand.runs.items() if v not in hand.versions.get(n, ())],
        }

    async def _facets(self, node: str) -> Fields:
        facets: list[Fields] = []
        for script, kind, state in (
            (KEPT_BACK, "package", "kept back"),
            (CONFFILES, "conffile", "changed"),
            (REPLACED, "libraries of", "replaced"),
        ):
            facets += [
                {"name": f"{kind} {name}", "state": state}
                for name in (await self._said(node, script, 60)).split("\n")
                if name
            ]
        for row in (await self._said(node, SERVICES)).splitlines():
            words = row.split()
            if len(words) >= 4 and words[0].endswith(".service"):
                facets.append({"name": f"service {words[0].removesuffix('.service')}", "state": words[3]})
        return {"facets": facets}

    async def _own_closely(self, node: str) -> Fields:
        facets, ports, log = dict[str, str](), set[int](), list[Fields]()
        for row in (await self._said(node, CLOSELY, 30)).splitlines():
            kind, _, said = row.partition(" ")
            words = said.split()
            if kind == "port" and (number := said.rpartition(":")[2]).isdecimal():
                ports.add(int(number))
            elif kind == "failed" and words:
                facets[f"unit {words[0]}"] = "failed"
            elif kind == "mount" and words:
                facets[f"mount {words[0]}"] = "mounted"
            elif kind == "address" and len(words) == 2:
                facets[f"address {words[0]} on {words[1]}"] = "present"
            elif kind in ROUTES and words:
                facets.setdefault(ROUTES[kind], " ".join(_way(words)) or "present")
            elif kind in ("stop", "warn") and len(words) > 2:  # when, the host's own name, who says what
                log.append({"text": " ".join(words[2:]), "level": kind, "at": words[0]})
        facets |= {f"port {number}": "listening" for number in ports if number < OF_THE_MOMENT}
        high = sum(number >= OF_THE_MOMENT for number in ports)
        gauges: list[Fields] = [{"name": "high listening ports", "value": float(high), "unit": ""}] if ports else []
        return {"facets": [{"name": n, "state": s} for n, s in facets.items()], "gauges": gauges, "log": log}

    async def _sessions(self, node: str) -> Fields:
        count = (await self._said(node, SESSIONS)).strip()
        return {"gauges": [{"name": "sessions", "value": float(count), "unit": ""}]} if count.isdecimal() else {}

    async def _channels(self, node: str) -> Fields:
        """Each channel as the host itself sees it: asked for its Release file, which apt verifies."""
        rows = (await self._said(node, CHANNELS, 90)).splitlines()
        said = [row.removeprefix("said ") for row in rows if row.startswith("said ")]
        found: dict[str, Fields] = {}
        for row in rows:
            words = row.split(" ")
            if words[0] == "line" and len(words) == 4:
                name, enabled = f"{words[2].rstrip('/')} {words[3]}", words[1] != "#"
                state, why = _channel_state(said, words[2], words[3]) if enabled else ("unknown", "")
                if name not in found or enabled:
                    found[name] = {"name": name, "enabled": enabled, "state": state, "why": why}
        names = [row.split(" ") for row in rows if row.startswith("name ")]
        facets = [{"name": f"name resolution {w[1]}", "state": w[2]} for w in names if len(w) == 3]
        return {"channels": list(found.values()), "facets": facets}

    async def _jobs(self, node: str) -> Fields:
        rows = [row.split(maxsplit=3) for row in (await self._said(node, LISTED_JOBS)).splitlines()]
        return {"jobs": [{"id": row[0], **_ended(row[1:])} for row in rows if row]}

    async def _own_job(self, node: str, handle: str) -> Fields:
        if not handle.replace("-", "").isalnum():
            raise DeviceRefused(
                f"{self.name_of(node)}: {clean(handle, 40)!r} is not the number of a job.", meaning="fatal"
            )
        script = f"""
            cd ~/{JOBS} && test -e {handle}.log || exit 4
            boot=$(cat /proc/sys/kernel/random/boot_id)
            {ONE_JOB.replace("JOB", handle)}
            echo "last $(tail -n 1 {handle}.log)"
        """
        said = await self.run(node, f"sh -c {shlex.quote(script)}", "act")
        if said.status == 4:
            raise DeviceRefused(f"{self.name_of(node)} knows no job {handle}.", meaning="refused")
        told, _, last = said.text.partition("\nlast ")
        found = _ended(told.split(maxsplit=3)[1:])
        return {"id": handle, **found, "message": found.get("message") or last.strip()}

    @hiding
    async def self_test(self, node: str, release: str) -> Tested:
        """What apt would do, tried without doing it: `release` is NAME=VERSION, several with blanks between."""
        if self.profile.self_test:
            return await super().self_test(node, release)
        if "=" not in release:  # the host as a whole is not a package
            return Tested()
        names = " ".join(shlex.quote(word) for word in release.split())
        said = await self.run(node, f"LC_ALL=C apt-get -s -q {KEEP_CONFFILES} install {names}", "read", 120)
        rows = said.text.splitlines()
        removed = [row.split()[1] for row in rows if row.startswith("Remv ")]
        wrong = [row.removeprefix("E: ") for row in said.errors.splitlines() if row.startswith("E: ")]
        findings = [{"text": f"{name} would be removed", "level": "stop"} for name in removed]
        findings += [{"text": text, "level": "stop"} for text in wrong if said.status != 0]
        return Tested(findings=self._records(Alarm, self._masked(findings)))

    # --- exports

    def _own_exports(self) -> Exports:
        def export(command: str, elevated: bool = False, exits: tuple[int, ...] = (0,)) -> Exporter:
            async def stream(node: str) -> AsyncIterator[bytes]:
                async for chunk in self.stream(node, command, exits, elevated=elevated):
                    yield chunk

            return stream

        return {
            "etc.tar": export(
                "/usr/bin/tar -C / --one-file-system -cf - etc", elevated=True, exits=(0, 1)
            ),  # 1: a file changed meanwhile
            "packages.txt": export("dpkg-query -W -f='${Package}=${Version}\\n'"),
            "selections.txt": export("dpkg --get-selections"),
            "channels.txt": export("sh -c 'cat /etc/apt/sources.list /etc/apt/sources.list.d/* 2>/dev/null; exit 0'"),
        }

    # --- acts

    def _own_acts(self) -> Acts:
        return {
            "preload": self._preload,
            "install": self._install,
            "restart": self._restart,
        }

    def _own_spoken(self, node: str, act: Act) -> str:
        commands = {
            "preload": f"{APT} -d install {self._wanted(act)}",
            "install": f"{APT} install {self._wanted(act)}",
            "restart": "/usr/bin/systemctl reboot --message=…",
        }
        return f"{commands[act.kind]}   with more rights"

    def _wanted(self, act: Act) -> str:
        """NAME=VERSION for apt: `package` or the component names
        what, `release` which; several stand in `release` alone."""
        name = act.package if act.component == IMAGE else act.component
        words = act.release.split() if "=" in act.release else [f"{name}={act.release}"]
        return " ".join(shlex.quote(word) for word in words)

    async def _ask(self, node: str, asked: Asked) -> object:
        call, fields, _, act, _ = asked
        if not isinstance(call, RunCommand) or not call.detached:
            return await super()._ask(node, asked)
        quoted = {key: shlex.quote(value) for key, value in fields.items()}
        lines = [str(fill(line, quoted)) for line in call.lines]
        kind = act.kind if act is not None else "read"
        return await self._begin(node, kind, *lines, elevated=call.elevated)

    async def _preload(self, node: str, act: Act, progress: Progress | None) -> Fields:
        return await self._begin(node, "preload", f"{APT} -d install {self._wanted(act)}", before=(UPDATE,))

    async def _install(self, node: str, act: Act, progress: Progress | None) -> Fields:
        """What runs is kept before the channels are asked what is new, for they may have it no more. Where an older
        version than runs is wanted, it is brought from a channel, or from what was kept."""
        words = self._wanted(act).split()
        names = " ".join(shlex.quote(word.partition("=")[0]) for word in words)
        hand = _Hand.of(await self._said(node, AT_HAND.replace("NAMES", names), 60))
        if not any(hand.is_older(word) for word in words):
            keep = " ".join(hand.worth_keeping(words))
            first = (f"{APT} -d --reinstall install {keep}", UPDATE, TIDY) if keep else (UPDATE, TIDY)
            return await self._begin(node, "install", f"{APT} install {self._wanted(act)}", before=first)
        back = " ".join(shlex.quote(hand.source(word)) for word in words)
        return await self._begin(node, "install", f"{APT_BACK} install {back}", before=(TIDY,))

    async def _begin(
        self, node: str, kind: str, *commands: str, elevated: bool = True, before: Sequence[str] = ()
    ) -> Fields:
        """Begin work that outlives the connection; its number is its handle, its end a file next to its log. What comes
        `before` may fail: a channel that is away does not matter where the others have what is wanted."""
        first = "".join(f"{self.elevated(command, 'act')}; " for command in before)
        every = first + " && ".join(self.elevated(command, "act") if elevated else command for command in commands)
        work = f'{{ {every}; }} > "$0.log" 2>&1; echo "$? {kind}" > "$0.part"; mv "$0.part" "$0.end"'
        script = f"""
            umask 077
            mkdir -p ~/{JOBS} && cd ~/{JOBS} || exit 1
            number={kind}-$(date -u +%Y%m%d%H%M%S)-$(od -An -N3 -tx1 /dev/urandom | tr -d ' ')
            : > "$number.log" || exit 1
            LC_ALL=C setsid sh -c {shlex.quote(work)} ~/{JOBS}/"$number" </dev/null >/dev/null 2>&1 &
            echo "$! $(cat /proc/sys/kernel/random/boot_id)" > "$number.pid"
            sync "$number.pid" "$number.log" 2>/dev/null
            echo "handle=$number"
        """
        said = await self.run(node, f"sh -c {shlex.quote(script)}", "act")
        handle = next((row.removeprefix("handle=") for row in said.text.splitlines() if row.startswith("handle=")), "")
        if said.status != 0 or not handle:
            raise self._refusal(node, said.errors.strip() or "the work did not start", said.status)
        return {"handle": handle}

    async def _restart(self, node: str, act: Act, progress: Progress | None) -> Fields:
        """Restart the host, the reason in its journal; the order is given a moment after the answer."""
        order = f"/usr/bin/systemctl reboot {shlex.quote(f'--message={clean(act.reason or DEFAULT_REASON, 120)}')}"
        command = self.elevated(order, "act")
        if command != order:  # whether sudo lets us, before the answer says that it will be done
            allowed = await self.run(node, f"sudo -n -l {order} >/dev/null", "act")
            if allowed.status != 0:
                raise self._refusal(node, allowed.errors.strip() or "sudo does not allow a restart", allowed.status)
        script = f"setsid sh -c {shlex.quote(f'sleep 3; {command}')} </dev/null >/dev/null 2>&1 &"
        await self.run(node, f"sh -c {shlex.quote(script)}", "act")
        return {"message": "it goes down in three seconds"}


class _Hand(NamedTuple):
    """What a host runs of some packages, the versions that it could
    have of each, and which of those lie in a file of its cache."""

    runs: dict[str, str]
    versions: dict[str, tuple[str, ...]]
    kept: dict[str, str]

    @classmethod
    def of(cls, text: str) -> _Hand:
        rows = [row.partition(" ") for row in text.splitlines()]
        runs = dict(said.split("=", 1) for kind, _, said in rows if kind == "have" and "=" in said)
        channel = [said for kind, _, said in rows if kind == "channel"]
        kept = {word: file for kind, _, file in rows if kind == "kept" and (word := _word_of(file)) is not None}
        found: dict[str, tuple[str, ...]] = {}
        for name, _, version in (word.partition("=") for word in dict.fromkeys([*channel, *kept])):
            if name in runs:
                found[name] = (*found.get(name, ()), version)
        only = {word: file for word, file in kept.items() if word not in channel}
        return cls(runs, found, only)

    def is_older(self, word: str) -> bool:
        """Whether NAME=VERSION is older than what runs."""
        name, _, version = word.partition("=")
        return name in self.runs and parse("deb", version) < parse("deb", self.runs[name])

    def worth_keeping(self, words: Sequence[str]) -> list[str]:
        """NAME=VERSION of what runs of some packages, where a channel has it and the cache does not."""
        named = (word.partition("=")[0] for word in words)
        every = [(name, self.runs[name]) for name in named if name in self.runs]
        return [f"{n}={v}" for n, v in every if v in self.versions.get(n, ()) and f"{n}={v}" not in self.kept]

    def source(self, word: str) -> str:
        """From where apt takes NAME=VERSION: a channel, by its name, else the file that was kept."""
        return f"{ARCHIVES}{self.kept[word]}" if word in self.kept else word


def _word_of(file: str) -> str | None:
    """NAME=VERSION of a file in apt's cache (NAME_VERSION_ARCHITECTURE.deb, an epoch's colon as %3a)."""
    parts = file.removesuffix(".deb").split("_")
    return f"{parts[0]}={unquote(parts[1])}" if len(parts) == 3 else None


def _ended(words: list[str]) -> Fields:
    """A job's state by what its end says: nothing while it runs, else its exit status, its kind, and what it said
    last."""
    if not words:
        return {"state": Ours("running"), "kind": Ours("install")}
    if words[0] == LOST:
        said = "it ended without a word; was the host restarted?"
        return {"state": Ours("failed"), "kind": Ours("install"), "percent": 0, "message": said}
    kind, well = words[1] if len(words) > 1 else "unknown", words[0] == "0"
    return {
        "state": Ours("done" if well else "failed"),
        "kind": Ours(kind),
        "percent": 100 if well else 0,
        "message": "" if well else clean(": ".join([f"exit status {words[0]}", *words[2:]]), 200),
    }


def _channel_state(said: list[str], url: str, suite: str) -> tuple[str, str]:
    """A channel's state by what apt said of it, in the C locale."""
    mine = [row for row in said if url.rstrip("/") in row and suite in row]
    for row in mine:
        if "GPG error" in row or "is not signed" in row or "no longer signed" in row:
            return "unauthenticated", clean(row, 160)
    for row in mine:
        if row.startswith(("Err:", "E:", "W: Failed")):
            following = said[said.index(row) + 1 :][:1]
            return "unreachable", clean(following[0] if following else row, 160)
    if any(row.startswith(("Hit:", "Get:", "Ign:")) for row in mine):
        return "reachable", ""
    return "unknown", ""

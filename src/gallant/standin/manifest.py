"""Manifest, an application on a Linux host, as the stand-in host's commands: a release says which updater it needs and is
refused by an older one, a database has a dated schema, and a reload of the configuration is due after an update."""

from __future__ import annotations

# What a release needs before it can be installed, and the schema that it brings.
RELEASE, UPDATER, SCHEMA = "2.5-1", "1.2-1", "2026-09"

_ORDER = """
order() {
  echo "install $1" > "$ROOT/orders/$$.new"; mv "$ROOT/orders/$$.new" "$ROOT/orders/$$"
  while [ ! -e "$ROOT/orders/$$.end" ]; do sleep 0.05; done
  status=$(cat "$ROOT/orders/$$.end"); cat "$ROOT/orders/$$.log"; rm -f "$ROOT/orders/$$".*
  return "$status"
}
version() { sed -n "s/^ii \\t$1\\t\\([^\\t]*\\)\\t.*/\\1/p" "$ROOT/state/packages"; }
"""
MANIFEST = {
    "manifest-updater": _ORDER
    + f"""
case "$1" in
  install)
    if [ "$2" = {RELEASE} ] && [ "$(version manifest-updater)" != {UPDATER} ]; then
      echo "the updater $(version manifest-updater) is too old for $2" >&2; exit 3
    fi
    grep -qx -e "manifest=$2" "$ROOT/state/offered" || {{ echo "no release $2 is offered" >&2; exit 4; }}
    order "manifest=$2" && touch "$ROOT/state/due";;
esac
""",
    "manifest-ctl": _ORDER
    + f"""
case "$1" in
  parts) echo "schema database $(cat "$ROOT/state/schema")"; echo "dataset ports 2026-10";;
  needs)
    [ "$2" = {RELEASE} ] || {{ echo "there is no release $2" >&2; exit 4; }}
    echo "manifest-updater {UPDATER}";;
  state)
    if [ -e "$ROOT/state/due" ]; then echo "reload: due"; else echo "reload: none"; fi
    echo "data: present";;
  migrate) [ "$(version manifest)" = {RELEASE} ] && echo {SCHEMA} > "$ROOT/state/schema"; echo "schema $(cat "$ROOT/state/schema")";;
  reload) rm -f "$ROOT/state/due"; echo "configuration read again";;
  dump) echo "CREATE TABLE passengers (name TEXT); -- schema $(cat "$ROOT/state/schema")";;
esac
""",
}

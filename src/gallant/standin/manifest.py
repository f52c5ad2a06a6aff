"""What the stand-in Linux hosts of the line have for commands besides a host's own. Manifest
is an application: a release says which updater it needs and is refused by an older one, a
database has a dated schema, and a reload of the configuration is due after an update."""

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
    "manifest-tools": _ORDER
    + f"""
case "$1" in
  install)
    if [ "$2" = {RELEASE} ] && [ "$(version manifest-tools)" != {UPDATER} ]; then
      echo "the updater $(version manifest-tools) is too old for $2" >&2; exit 3
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
    echo "manifest-tools {UPDATER}";;
  state)
    if [ -e "$ROOT/state/due" ]; then echo "reload: due"; else echo "reload: none"; fi
    echo "data: present";;
  migrate)
    [ "$(version manifest)" = {RELEASE} ] && echo {SCHEMA} > "$ROOT/state/schema"
    echo "schema $(cat "$ROOT/state/schema")";;
  reload) rm -f "$ROOT/state/due"; echo "configuration read again";;
  dump) echo "CREATE TABLE passengers (name TEXT); -- schema $(cat "$ROOT/state/schema")";;
esac
""",
}

# Kissgate's add-ons stand in a file of their own; one that needs
# another one's newer release is refused before it is there.
KISSGATE = {
    "kissgate-addons": (
        """
addons="$ROOT/etc/kissgate/addons"
case "$1" in
  take)
    now=$(sed -n "s/^$2 \\([^ ]*\\).*/\\1/p" "$addons")
    [ -n "$now" ] || { echo "there is no add-on $2" >&2; exit 4; }
    if [ "$2 $3" = "scanner 2.4" ] && ! grep -q "^lanes 3.1" "$addons"; then
      echo "scanner 2.4 needs lanes 3.1" >&2; exit 3
    fi
    sed "s/^$2 [^ ]*/$2 $3/" "$addons" > "$addons.new" && mv "$addons.new" "$addons"
    echo "$2 $3 is in, and Kissgate was started again";;
esac
"""
    ),
}
# The line builds its hosts itself: a build is laid ready, and the host is it from its next start on.
HOST_BUILD = {
    "line-host": (
        """
case "$1" in
  lay) echo "$2" > "$ROOT/state/next-build"; echo "build $2 is laid ready";;
  next) cat "$ROOT/state/next-build" 2>/dev/null;;
esac
exit 0
"""
    ),
}

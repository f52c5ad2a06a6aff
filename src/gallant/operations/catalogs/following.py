"""Publishers' catalogs: added with a pinned key, synced, listed,
shown. What is refused leaves the last good one in use."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from gallant.core.decide.ledger import REMOVED
from gallant.core.documents import suggestion
from gallant.core.errors import GallantError, Refused, WrongUse
from gallant.core.estate.accounts import Account
from gallant.core.estate.sources import Access, Source, parse_channel
from gallant.core.estate.systems import CatalogRule, name_problem
from gallant.core.records import Record, clean
from gallant.operations.ground.deciding import record
from gallant.operations.ground.last import every_reading
from gallant.operations.ground.workplace import Ask, Workplace

if TYPE_CHECKING:
    pass


class SourceFollowed(Record):
    """A source that is now followed, and the fingerprint of the key that it must be signed with."""

    name: str
    source: str
    fingerprint: str


def access_of(
    proxy: str | None, ca: str | None, pin: str | None, user: str | None, secret: str | None
) -> Access | None:
    """How a source is reached, from what a person wrote; None where nothing was. Raises `WrongUse`."""
    if (user is None) != (secret is None):
        raise WrongUse(
            "An account is a user and where its secret is kept.",
            next="Write --user NAME --secret env:NAME, file:PATH, keyring:SERVICE or ask.",
        )
    try:
        account = Account(user=user, secret=secret) if user is not None and secret is not None else None
        access = Access(proxy=proxy, ca=ca, fingerprint=pin, account=account)
    except ValueError as error:
        raise WrongUse(f"{error}.") from None
    return None if access == Access() else access


def add(place: Workplace, name: str, source: str, key: str, access: Access | None = None) -> SourceFollowed:
    """Follow a catalog. `key` is the public key or the path of a file that holds it; it is pinned from here on."""
    from gallant.catalogs.fetch import check_source
    from gallant.catalogs.trust import key_fingerprint

    if problem := name_problem(name):
        raise WrongUse(problem)
    checked = check_source(source)
    pinned = key_of(key)
    _right_kind(checked, key, pinned)
    known = next((s for s in place.readings.sources() if s.name == name), None)
    if known is not None and known.key != pinned:
        raise Refused(
            f"{name} is followed under another key.",
            f"Pinned is {key_fingerprint(known.key)}; this one is {key_fingerprint(pinned)}.",
            f"A key is not changed by adding again. Ask the publisher first; then: gallant catalog trust {name}"
            " --key KEY",
        )
    place.reach(checked, access)  # an account that cannot be used, or whose secret is not to be had, comes up now
    place.readings.add_source(name, checked, pinned, place.clock.now(), access)
    return SourceFollowed(name=name, source=checked, fingerprint=key_fingerprint(pinned))


def follow_declared(place: Workplace) -> dict[str, GallantError]:
    """Follow the catalogs that the estate declares as it declares them now; by name, why one could not be."""
    from gallant.catalogs.fetch import check_source

    known, wrong = {s.name: s for s in place.readings.sources()}, dict[str, GallantError]()
    for name, rule in place.estate.catalogs.items():
        try:
            access = _access_of(rule)
            same = known.get(name)
            if (
                same is None
                or (same.source, same.access) != (check_source(rule.from_), access)
                or not _is_pinned(place, rule, same)
            ):
                add(place, name, rule.from_, _key_file(place, rule), access)
        except GallantError as error:
            wrong[name] = error
    return wrong


def _access_of(rule: CatalogRule) -> Access | None:
    if not (rule.proxy or rule.ca or rule.fingerprint or rule.account):
        return None
    try:
        return Access(proxy=rule.proxy, ca=rule.ca, fingerprint=rule.fingerprint, account=rule.account)
    except ValueError as error:
        raise WrongUse(f"catalogs: {rule.from_}: {error}.", next="Look at catalogs: in estate.yaml") from None


def _key_file(place: Workplace, rule: CatalogRule) -> str:
    path = place.folder / Path(rule.key).expanduser()
    return str(path) if path.is_file() else rule.key


def _is_pinned(place: Workplace, rule: CatalogRule, known: Source) -> bool:
    return key_of(_key_file(place, rule)) == known.key


def _right_kind(source: str, key: str, pinned: str) -> None:
    """Raise `Refused` for a key of another kind than what the source is signed with."""
    from gallant.catalogs.trust import OPENPGP

    channel, openpgp = parse_channel(source) is not None, pinned.startswith(OPENPGP)
    if channel and not openpgp:
        raise Refused(
            f"{clean(key, 80)} is no key for a channel of Debian packages.",
            "A channel is signed with OpenPGP; this is an Ed25519 key, as Gallant's own catalogs have it.",
            "Write --key FILE with the channel's key: the file that Signed-By names on a host that uses it",
        )
    if openpgp and not channel:
        raise Refused(
            f"{clean(key, 80)} is no key for a catalog.",
            "A catalog is signed with Ed25519; this is an OpenPGP key, as channels of Debian packages have it.",
            "Ask the publisher for the catalog's key (ed25519:…); for a channel write: gallant catalog add NAME "
            "'deb URL SUITE COMPONENT' --key FILE",
        )


def key_of(key: str) -> str:
    """A public key that was given as text or as the path of a file."""
    from gallant.catalogs.trust import openpgp_key, parse_key

    if key.startswith("ed25519:"):
        return parse_key(key)
    try:
        raw = Path(key).read_bytes()
        text = raw.decode("utf-8", "replace")
        # A keyring is bytes or armour; anything else is a key in words.
        is_openpgp = "BEGIN PGP" in text or (raw[:1] >= b"\x80" and "ed25519:" not in text)
        return openpgp_key(raw) if is_openpgp else parse_key(text)
    except OSError as error:
        raise WrongUse(
            f"The key file {key} cannot be read: {error.strerror}.", next="Write --key FILE or --key ed25519:…"
        ) from None


class KeyChanged(Record):
    """A key that was changed: the fingerprints before and now."""

    name: str
    before: str
    fingerprint: str


def trust(place: Workplace, name: str, key: str) -> KeyChanged:
    """Pin another key for a catalog that is followed; its serial still only rises."""
    from gallant.catalogs.trust import key_fingerprint

    source = _source(place, name)
    pinned = key_of(key)
    place.readings.trust_key(name, pinned)
    return KeyChanged(name=name, before=key_fingerprint(source.key), fingerprint=key_fingerprint(pinned))


class Removed(Record):
    """A catalog that is no longer followed, and the components, as
    `system:component`, of which no catalog here says anything now."""

    name: str
    source: str
    unknown: tuple[str, ...]


def remove(place: Workplace, name: str, reason: str, sure: Ask) -> Removed | None:
    """Follow a catalog no more, once somebody has seen what will be unknown then; None where they would rather not."""
    source = _source(place, name)
    if name in place.estate.catalogs:
        raise Refused(
            f"{name} stands under catalogs: in estate.yaml; the next sync would follow it again.",
            next=f"Take it out there, then: gallant catalog remove {name}",
        )
    left = {p.name for s, c in place.catalogs if s.name != name for p in c.products}
    gone = {p.name for s, c in place.catalogs if s.name == name for p in c.products} - left
    readings = every_reading(place)
    parts = {f"{r.system}:{c.name}" for r in readings.values() for c in r.components if c.product in gone}
    unknown = tuple(sorted(parts))
    few = ", ".join(unknown[:6]) + (f" and {len(unknown) - 6} more" if len(unknown) > 6 else "")
    what = f"Of {few} nothing will be known here then" if unknown else "Nothing that was read here is of it"
    if not sure(f"{name} ({source.source}) will not be followed any more. {what}. Go on?"):
        return None
    place.readings.remove_source(name)
    record(place, "catalog", name, state=REMOVED, reason=clean(reason, 200))
    return Removed(name=name, source=source.source, unknown=unknown)


def _source(place: Workplace, name: str) -> Source:
    known = {s.name: s for s in place.readings.sources()}
    if name not in known:
        raise WrongUse(f"No catalog {name!r}{suggestion(name, list(known))}.", next="gallant catalog list shows them.")
    return known[name]

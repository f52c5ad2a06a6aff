"""An estate that is split over files: read as one, with every
problem told in the file, line and column where it stands."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

from gallant.core.documents import Document, Invalid, Path

# What may stand in a file that is included: lists are joined, entries of mappings are, and no name stands twice.
LISTS = ("aims", "defaults", "rules", "notes", "rounds", "events", "notify", "windows", "blackouts")
MAPPINGS = ("sites", "systems", "accounts", "declared", "catalogs", "approval")
MOST_FILES = 500
# What a pattern below `include:` names: each file's name and what is
# in it. Raises `ValueError` in words where there is none.
Reader = Callable[[str], Sequence[tuple[str, bytes]]]


class Gathered(Document):
    """Several documents as one: what is noted at a path is noted in the document that has it."""

    values: dict[str, object]

    def __init__(self, main: Document, read: Reader) -> None:
        self.main, self.name, self.root = main, main.name, main.root
        self.problems, self.more, self._helped = [], 0, 0
        said = main.values if isinstance(main.values, dict) else {}
        self.values = {key: value for key, value in said.items() if key != "include"}
        self._owners: dict[tuple[str, str | int], tuple[Document, str | int]] = {}
        self._faulty = list[Invalid]()  # files that cannot be parsed at all
        self._documents = [main, *self._included(said.get("include"), read)]
        for document in self._documents:
            self._join(document)

    def _included(self, patterns: object, read: Reader) -> Iterator[Document]:
        if patterns is None:
            return
        if not isinstance(patterns, list) or not all(isinstance(pattern, str) for pattern in patterns):
            self.main.at(("include",), "expected a list of paths, as [systems/*.yaml]")
            return
        count = 0
        for index, pattern in enumerate(patterns):
            try:
                files = read(pattern)
            except ValueError as error:
                self.main.at(("include", index), str(error))
                continue
            for name, raw in files:
                count += 1
                if count > MOST_FILES:
                    self.main.at(("include", index), f"more than {MOST_FILES} files")
                    return
                try:
                    document = Document(name, raw)
                except Invalid as error:
                    self._faulty.append(error)
                    continue
                if self._is_part(document):
                    yield document

    def _is_part(self, document: Document) -> bool:
        """Whether a file has only what a part of an estate may have; an empty one has nothing."""
        if document.values is None:
            return False
        if not isinstance(document.values, dict):
            document.at((), f"expected a mapping of {', '.join((*MAPPINGS, *LISTS))}")
            return True
        for key in document.values:
            if key not in (*LISTS, *MAPPINGS):
                hint = document.suggestion(key, (*LISTS, *MAPPINGS))
                document.at(
                    (key,),
                    f"{key!r} is for the estate's own file{hint}; here stand {', '.join((*MAPPINGS, *LISTS))}",
                    key=True,
                )
        return True

    def _join(self, document: Document) -> None:
        values = document.values if isinstance(document.values, dict) else {}
        for section in MAPPINGS:
            entries = values.get(section)
            if isinstance(entries, dict):
                self._join_mapping(document, section, entries)
        for section in LISTS:
            entries = values.get(section)
            if isinstance(entries, list):
                known = self.values.get(section)
                whole = list(known) if document is not self.main and isinstance(known, list) else []
                for number, entry in enumerate(entries):
                    self._owners[section, len(whole)] = (document, number)
                    whole.append(entry)
                self.values[section] = whole

    def _join_mapping(self, document: Document, section: str, entries: Mapping[str, object]) -> None:
        before = self.values.get(section)
        whole = dict(before) if document is not self.main and isinstance(before, dict) else {}
        for key, entry in entries.items():
            known = self._owners.get((section, key))
            if known is not None:
                document.at((section, key), f"{key!r} stands in {known[0].name} already", key=True)
                continue
            self._owners[section, key] = (document, key)
            whole[key] = entry
        self.values[section] = whole

    def at(self, path: Path, message: str, *, key: bool = False) -> None:
        """Note a problem at the place in the file that it comes from."""
        document, own = self.main, tuple(path)
        if len(own) > 1 and (found := self._owners.get((str(own[0]), own[1]))) is not None:
            document, own = found[0], (own[0], found[1], *own[2:])
        document.at(own, message, key=key)

    def finish(self) -> None:
        """Raise all that was noted, each with its file and line."""
        wrong = list(self._faulty)
        for document in self._documents:
            try:
                document.finish()
            except Invalid as error:
                wrong.append(error)
        if wrong:
            raise Invalid.together(self.name, wrong)


def no_files(pattern: str) -> Sequence[tuple[str, bytes]]:
    """Raises: an estate that is read without its folder includes no files."""
    raise ValueError(f"{pattern}: no file is included where an estate is read without its folder")

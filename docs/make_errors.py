"""Makes docs/errors.md from the source: every message that ends a command, by its exit code. `make docs` runs it."""

from __future__ import annotations

import ast
import sys
from pathlib import Path

SOURCE = Path(__file__).parent.parent / "src" / "gallant"
# The classes of core/errors.py and those made of them, with what each exit code stands for.
CODES = {
    2: "the command line or a file is wrong",
    3: "something could not be reached, or did not let us in",
    4: "stopped or held part-way, or something on this host failed",
    5: "refused for safety: nothing was done",
}
HEAD = """\
# Exit codes and messages

Of several that apply, the first of 2, 5, 4, 3, 1, 0 is the exit code; 1 is no error: there are findings, or gaps to act on. A message says what
failed and where, then why, then what to do next; `--json` has the three as `what`, `why` and `next` on stderr. `…` is what is filled in.
"""


def classes() -> dict[str, int]:
    """The exit code of every error's class, its own or that of the class that it is made of."""
    made: dict[str, tuple[int | None, list[str]]] = {}
    for path in SOURCE.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.ClassDef):
                own = next(
                    (
                        s.value.value
                        for s in node.body
                        if isinstance(s, ast.Assign)
                        and isinstance(s.value, ast.Constant)
                        and any(isinstance(t, ast.Name) and t.id == "exit_code" for t in s.targets)
                    ),
                    None,
                )
                made[node.name] = (own, [base.id for base in node.bases if isinstance(base, ast.Name)])

    def code(name: str) -> int | None:
        own, bases = made.get(name, (None, []))
        return own if own is not None else next((c for base in bases if (c := code(base)) is not None), None)

    return {name: found for name in made if (found := code(name)) is not None}


def text_of(node: ast.expr) -> str | None:
    """A message as it stands in the source, with `…` for whatever is filled in."""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value
    if isinstance(node, ast.JoinedStr):
        return "".join(str(part.value) if isinstance(part, ast.Constant) else "…" for part in node.values)
    return None


def messages() -> dict[int, dict[str, str]]:
    """By exit code: each message, and what is said to do next."""
    known, found = classes(), dict[int, dict[str, str]]()
    for path in sorted(SOURCE.rglob("*.py")):
        if path.relative_to(SOURCE).parts[0] in ("standin", "twins"):  # what devices say that are none
            continue
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if not (
                isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in known and node.args
            ):
                continue
            what = text_of(node.args[0])
            following = next(
                (k.value for k in node.keywords if k.arg == "next"), node.args[2] if len(node.args) > 2 else None
            )
            if what is None or sum(map(str.isalpha, what)) < 8:
                continue
            told = text_of(following) if following is not None else None
            found.setdefault(known[node.func.id], {})[" ".join(what.split())] = " ".join((told or "").split())
    return found


def page() -> str:
    lines = [HEAD]
    every = messages()
    for code, meaning in CODES.items():
        lines.append(f"\n## {code}: {meaning}\n\n| message | next |\n|---|---|")
        rows = sorted(every.get(code, {}).items(), key=lambda row: row[0].lstrip("… :'\"").casefold())
        lines += [f"| {_cell(what)} | {_cell(following)} |" for what, following in rows]
    return "\n".join(lines) + "\n"


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("<", "&lt;")


if __name__ == "__main__":
    sys.stdout.write(page())

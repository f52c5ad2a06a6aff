"""How large a measurement is: in full, or with `--short` only as large as shows that the script still runs."""

from __future__ import annotations

import sys
from typing import TypeVar

T = TypeVar("T")
SHORT = "--short" in sys.argv[1:]


def sized(full: T, short: T) -> T:
    return short if SHORT else full


def asked_for(full: int, short: int) -> int:
    """As the first number on the command line says, else by the form."""
    return next((int(word) for word in sys.argv[1:] if word.isdigit()), sized(full, short))

"""A bundle for a support desk: what is in it, before anybody sends it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.tables import table
from gallant.views.ground.words import BOLD, OFF, mark, plain, said, size

if TYPE_CHECKING:
    from gallant.operations.after.support import BundleItem, SupportBundle

BUNDLE: Listed[BundleItem] = Listed(
    "support",
    "support",
    beside=("path", "table"),
    headings={"file": "name", "size": "bytes", "what is in it": "what"},
)


def bundle_view(bundle: SupportBundle) -> View:
    def text() -> Drawn:
        shown = table("file", "size", "what is in it", right=("size",))
        for item in bundle.items:
            shown.add_row(f"{BOLD}{plain(item.name)}{OFF}", size(item.bytes), plain(item.what))
        yield shown
        yield said("good", f"{plain(bundle.path)} is written; no secret is in it. Look at it before you send it.")
        if bundle.table is not None:
            yield (
                f"{mark('note')} {bundle.replaced} names are replaced; {BOLD}{plain(bundle.table)}{OFF} says which, and"
                " is not for sending."
            )

    return BUNDLE.view(bundle.items, text, {"path": bundle.path, "table": bundle.table})

"""What a page that stands by itself has to keep: valid HTML, readable
aloud, found through, and seen by day, by night and on paper."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator

import html5lib
from lxml import html


def problems(text: str) -> list[str]:
    """What is wrong with a page: by the parser of the HTML Living
    Standard, and by rules of WCAG 2.2 that can be told from its text."""
    try:
        html5lib.HTMLParser(strict=True).parse(text)
    except html5lib.html5parser.ParseError as error:
        return [f"no valid HTML: {error}"]
    return list(_aloud(html.fromstring(text))) + list(_seen(text))


def _aloud(page: html.HtmlElement) -> Iterator[str]:
    if page.get("lang") != "en":
        yield "3.1.1: no language"
    if len(page.xpath("//title[normalize-space()]")) != 1:
        yield "2.4.2: no title"
    if len(page.xpath("//main")) != 1:
        yield "1.3.1: no main part"
    if page.xpath("//script | //link | //iframe | //object | //*[@onclick or @onload]"):
        yield "it does not stand by itself"
    if not any(said.startswith("default-src 'none';") for said in page.xpath("//meta[@http-equiv]/@content")):
        yield "no policy keeps it from asking for something"
    if not all(src.startswith("data:image/png;base64,") for src in page.xpath("//@src")):
        yield "it asks for something from elsewhere"
    levels = [int(heading.tag[1]) for heading in page.xpath("//h1 | //h2 | //h3 | //h4")]
    if levels[:1] != [1] or levels.count(1) != 1 or any(b > a + 1 for a, b in itertools.pairwise(levels)):
        yield f"1.3.1: headings in the order {levels}"
    for rule, found in (
        ("1.1.1: a picture without words", page.xpath("//img[not(normalize-space(@alt))]")),
        ("1.3.1: a table without a caption", page.xpath("//table[not(caption[normalize-space()])]")),
        ("1.3.1: a heading of a table without a scope", page.xpath("//th[not(@scope='col' or @scope='row')]")),
        ("1.3.1: a table without rows", page.xpath("//tbody[not(tr)]")),
        ("1.3.1: a row without a heading", page.xpath("//tbody/tr[not(th)]")),
        ("4.1.2: a region without a name", page.xpath("//*[@role='region'][not(normalize-space(@aria-label))]")),
        ("2.1.1: what scrolls cannot be reached by keys", page.xpath("//*[@class='scroll'][not(@tabindex='0')]")),
        ("2.4.4: a link without words", page.xpath("//a[not(normalize-space())]")),
        ("1.3.1: a list with something else in it", page.xpath("//ul/*[not(self::li)] | //ol/*[not(self::li)]")),
    ):
        if found:
            yield f"{rule}: {html.tostring(found[0])[:120]!r}"
    ids = page.xpath("//@id")
    if len(ids) != len(set(ids)):
        yield "4.1.1: one id twice"
    wanted = {*page.xpath("//@aria-labelledby"), *(link[1:] for link in page.xpath("//a/@href") if link[:1] == "#")}
    if not wanted <= set(ids):
        yield f"nothing has the id {sorted(wanted - set(ids))}"


def _seen(text: str) -> Iterator[str]:
    blocks = re.findall(r":root \{([^}]*)\}", text)
    if len(blocks) != 3:
        yield "not by day, by night and on paper"
    for block in blocks:
        colours = dict(re.findall(r"--(\w+): (#[0-9a-f]{3,6})", block))
        full = {n: c if len(c) == 7 else "#" + "".join(2 * x for x in c[1:]) for n, c in colours.items()}
        for name in ("text", "muted", "bad", "warn", "good"):
            light, dark = sorted((_luminance(full["paper"]), _luminance(full[name])), reverse=True)
            if (light + 0.05) / (dark + 0.05) < 4.5:
                yield f"1.4.3: {name} {full[name]} on {full['paper']}"


def _luminance(colour: str) -> float:
    """WCAG 2.2, "relative luminance"."""
    parts = [int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)]
    linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

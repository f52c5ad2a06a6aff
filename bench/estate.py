"""Loading an estate of 5,000 nodes: everything that `parse_estate` does, to the bare YAML loader on the same text."""

from __future__ import annotations

import time

import yaml
from short import sized

from gallant.core.estate.reading import parse_estate


def text(systems: int) -> str:
    head = (
        "gallant: estate/1\nname: large\nsites: {harbour: {}}\naccounts: {read: {user: r, secret: 'env:R'}}\nsystems:\n"
    )
    return head + "".join(
        f"  s{i}:\n    product: ostrel/shoal\n    shape: pair\n    site: harbour\n    kind: storage\n    tags: [prod]\n    driver: http\n"
        f"    profile: ostrel-shoal\n    nodes:\n"
        f'      a: {{address: "https://10.{i // 250}.{i % 250}.1", serial: A{i}, fingerprint: "sha256:{"0" * 64}"}}\n'
        f'      b: {{address: "https://10.{i // 250}.{i % 250}.2", serial: B{i}, fingerprint: "sha256:{"0" * 64}"}}\n'
        f"    usual: {{active: a}}\n"
        for i in range(systems)
    )


def best(work: object, times: int = 3) -> float:
    taken = []
    for _ in range(times):
        began = time.perf_counter()
        work()  # type: ignore[operator]
        taken.append(time.perf_counter() - began)
    return min(taken)


def main() -> None:
    large = text(sized(2500, 50))
    bare = best(lambda: yaml.load(large, yaml.CSafeLoader))
    whole = best(lambda: parse_estate("estate.yaml", large))
    print(f"bare YAML load           {bare:6.2f} s")
    print(f"estate with its checks   {whole:6.2f} s   (5,000 nodes)")
    print(f"ratio {whole / bare:.2f}")


if __name__ == "__main__":
    main()

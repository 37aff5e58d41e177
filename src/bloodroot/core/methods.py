"""Which request methods a line, a standing rule or a denial covers: this is decided here and nowhere else."""

from __future__ import annotations

ANY = "any"  # every method, or one that nothing names
WEBSOCKET = "WEBSOCKET"  # a handshake; what is sent with this word as its method is none
SAFE = ("GET", "HEAD", "OPTIONS")  # those that read (RFC 9110, section 9.2.1)
COMMON = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS")


def covers(methods: tuple[str, ...], method: str) -> bool:
    """Whether something that names these methods, or none for any, covers a method. ``GET`` covers ``HEAD``."""
    return not methods or method in methods or (method == "HEAD" and "GET" in methods)


def precision(methods: tuple[str, ...], method: str) -> int:
    """How closely methods name a method that they cover: 0 by its name, 1 as HEAD of a GET, 2 as one of any."""
    return 2 if not methods else 0 if method in methods else 1


def share(one: tuple[str, ...], other: tuple[str, ...]) -> bool:
    """Whether two entries name one method, or both name none: neither is more specific for it."""
    return bool(set(one) & set(other)) if one and other else one == other


def treatments(named: tuple[str, ...], others: list[tuple[str, ...]]) -> list[tuple[str, ...]]:
    """The methods of a line, in groups that entries which name methods themselves treat alike.

    Args:
        named: the methods of the line; empty for any.
        others: the methods of each of the entries.

    Returns:
        One group a method, and one more for HEAD where it is treated in another way than GET. For a line for any
        method, one group a treatment, that of the methods which no entry names at the end, as ``any``.
    """
    mentioned = dict.fromkeys(method for methods in others for method in methods)

    def treatment(method: str) -> tuple[bool, ...]:
        return tuple(covers(methods, method) for methods in others)

    if named:
        alone = "GET" in named and "HEAD" not in named and treatment("HEAD") != treatment("GET")
        return [(method,) for method in (*named, *(("HEAD",) if alone else ()))]
    if "GET" in mentioned and "HEAD" not in mentioned and treatment("HEAD") != treatment("GET"):
        mentioned["HEAD"] = None
    groups: dict[tuple[bool, ...], list[str]] = {}
    for method in (*mentioned, ANY):
        groups.setdefault(treatment(method), []).append(method)
    return [tuple(group) for group in groups.values()]

"""Contents damaged at random, as files are in the field: bytes lost, doubled, turned, replaced by what is special.

And contents that are whole, and say something else: JSON with other values, tables with other cells.
"""

import copy
import json
import random
from collections.abc import Iterator
from typing import Any

__all__ = ["changed", "damaged"]

_SPECIAL = (
    b"\0", b"\xff" * 4, b"\x7f\xff\xff\xff", b"-1", b"0", b"1e999", b"NaN", b"9" * 40, b"1,5", b";", b"\t", b"\r\n",
    b'"', b"'", b"{", b"[", b"&a", b"*a", b": ", b"- ", b"null", b"true", b"::/0", b"0.0.0.0/0", b"10.0.1.1/24",
    b"::ffff:10.0.0.1", b"\xef\xbb\xbf", b"\xe2\x80\xae", b"\x1b[31m", b"=1+1", b"../../x", b"2026-13-40",
)  # fmt: skip


def damaged(content: bytes, dice: random.Random) -> bytes:
    """The content after one to four of such changes."""
    whole = bytearray(content)
    for _ in range(dice.choice((1, 1, 2, 4))):
        at = dice.randrange(len(whole) + 1)
        until = min(len(whole), at + dice.choice((1, 2, 4, 8, 32)))
        match dice.randrange(7):
            case 0 if at < len(whole):
                whole[at] ^= 1 << dice.randrange(8)
            case 1:
                del whole[at:until]
            case 2:
                whole[at:at] = whole[at:until] * dice.choice((1, 2, 50))
            case 3:
                whole[at:at] = dice.choice(_SPECIAL)
            case 4:
                whole[at:until] = dice.choice(_SPECIAL)
            case 5:
                del whole[at:]
            case _:
                whole[at:until] = dice.randbytes(until - at)
    return bytes(whole)


_VALUES: tuple[Any, ...] = (
    None, True, False, 0, -1, 1, 65_536, 2**31, 2**64, 1e-9, 0.5, 1e300, -0.5, "", " ", "0", "-1", "nan", "1e999",
    "0x10", "all", "default", "any", "0.0.0.0/0", "::/0", "10.0.1.4", "10.0.1.0/24", "203.0.113.1", "::1",
    "10.0.1.4/30", "::ffff:10.0.0.1", "fe80::1%eth0", "169.254.0.1", "2001:db8::/129", "10.0.1.4/8", ".", "é",
    "=1+1", "2026-13-40", "2026-11-20T17:04:10Z", "1970-01-01", "9999-12-31T23:59:59+14:00", "443", "443-80", "99999",
    "a.example", "x" * 300, [], {}, [None], [[]], {"": ""}, ["10.0.1.4", 1], {"addr": "10.0.1.4", "len": 99},
)  # fmt: skip


def changed(content: bytes, dice: random.Random) -> bytes:
    """The content with one to four other values, where it is JSON or a table; else damaged."""
    try:
        whole = json.loads(content)
    except ValueError:
        return _table_changed(content, dice) if content.count(b"\n") > 1 and b"," in content else damaged(content, dice)
    for _ in range(dice.choice((1, 1, 2, 4))):
        places = [*_places(whole)]
        if places:
            _change(*dice.choice(places), [holder[key] for holder, key in places], dice)
    return json.dumps(whole).encode()


def _places(value: Any) -> Iterator[tuple[Any, Any]]:
    """Every value inside, as what holds it and where."""
    keys = list(value) if isinstance(value, dict) else range(len(value)) if isinstance(value, list) else ()
    for key in keys:
        yield value, key
        yield from _places(value[key])


def _change(holder: Any, key: Any, others: list[Any], dice: random.Random) -> None:
    """One value removed, doubled, exchanged for another of the same document, or for one of no sense there."""
    match dice.randrange(6):
        case 0:
            del holder[key]
        case 1 if isinstance(holder, list):
            holder.insert(key, copy.deepcopy(holder[key]))
        case 1:
            holder[dice.choice((key.upper(), f"x:{key}", ""))] = holder.pop(key)
        case 2:
            holder[key] = copy.deepcopy(dice.choice(others))
        case 3:
            holder[key] = [copy.deepcopy(holder[key])]
        case 4 if isinstance(holder[key], int | float) and not isinstance(holder[key], bool):
            holder[key] *= dice.choice((-1, 0, 1_000_000, 0.001))
        case _:
            holder[key] = copy.deepcopy(dice.choice(_VALUES))


def _table_changed(content: bytes, dice: random.Random) -> bytes:
    """Lines of cells, by commas: other cells, columns and rows."""
    rows = [line.split(",") for line in content.decode("utf-8", "replace").splitlines()]
    for _ in range(dice.choice((1, 1, 2, 4))):
        row = dice.choice(rows)
        at = dice.randrange(len(row)) if row else 0
        match dice.randrange(7):
            case 0 if row:
                row[at] = str(dice.choice(_VALUES))
            case 1 if row:
                row[at] = dice.choice(dice.choice(rows) or [""])
            case 2:
                row.insert(at, dice.choice(row or [""]))
            case 3 if row:
                del row[at]
            case 4:
                for each in rows:
                    del each[at : at + 1]
            case 5:
                rows.insert(dice.randrange(len(rows) + 1), list(row))
            case _:
                dice.shuffle(row)
    return "\n".join(map(",".join, rows)).encode() + b"\n"

"""Names and texts as each format that is written may hold them: quoted where it can be, else refused or replaced.

Whatever a name says, it stays a name: it becomes no path outside its folder, no command, no formula, no markup, and no
order to a terminal.
"""

import re
import shlex
import unicodedata
from collections.abc import Iterable

__all__ = ["cell", "comment", "device_names", "file_name", "host_label", "label", "markdown", "shell", "visible"]

_UNSAFE_IN_FILE = re.compile(r"[^A-Za-z0-9._+-]+")
_FORMULA = ("=", "+", "-", "@", "\t", "\r")
_NUMBER = re.compile(r"[-+]?\d+(\.\d+)?([eE][-+]?\d+)?\Z")
_ACTIVE = re.compile(r"([\\`*_{}\[\]<>#|!~])")
_LONGEST_FILE, _LONGEST_LABEL = 100, 63


def visible(text: str) -> str:
    """Text for a terminal: control and formatting characters (escapes, right-to-left marks) are shown, not sent."""
    if text.isascii() and text.isprintable():
        return text
    return "".join(
        one if one == "\n" or unicodedata.category(one) not in ("Cc", "Cf", "Cs", "Zl", "Zp") else f"\\u{ord(one):04x}"
        for one in text
    )


def file_name(name: str, ending: str = "") -> str:
    """A name as one part of a path: letters, digits, `.`, `_`, `+`, `-`; never hidden, never a folder above.

    Two names that differ only in what is replaced get the same file; callers number these.
    """
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode()
    safe = _UNSAFE_IN_FILE.sub("-", plain).strip(".-")[:_LONGEST_FILE]
    return (safe or "unnamed") + ending


def comment(text: str) -> str:
    """Text behind a comment sign: one line."""
    return visible(text).replace("\n", " ")


def label(name: str) -> str:
    """A name as an identifier of letters, digits and `_`, beginning with a letter (nftables, YANG, alert rules)."""
    plain = re.sub(r"[^A-Za-z0-9_]", "_", name)[:_LONGEST_LABEL]
    return plain if plain[:1].isalpha() else f"n_{plain}"


def shell(text: str) -> str:
    """A word of a shell command."""
    return shlex.quote(visible(text).replace("\n", " "))


def cell(text: str) -> str:
    """Text in a CSV or a workbook: what a spreadsheet would compute is told to be text; numbers stay."""
    return f"'{text}" if text.startswith(_FORMULA) and not _NUMBER.match(text) else text


def markdown(text: str) -> str:
    """Text in Markdown: no markup, one line."""
    return _ACTIVE.sub(r"\\\1", comment(text))


_LONGEST_DEVICE = 15


def device_names(names: Iterable[str]) -> dict[str, str]:
    """A network device's name (Linux: at most 15 signs) for each of some names, all different."""
    found: dict[str, str] = {}
    for name in dict.fromkeys(names):
        plain = re.sub(r"[^A-Za-z0-9_-]", "-", name).strip("-") or "exit"
        short, number = plain[:_LONGEST_DEVICE], 1
        while short in found.values():
            number += 1
            short = plain[: _LONGEST_DEVICE - len(str(number)) - 1] + f"-{number}"
        found[name] = short
    return found


def host_label(name: str) -> str:
    """One label of a host name (RFC 1123): letters, digits, hyphens; `_` stays, as names of services have it."""
    plain = re.sub(r"[^A-Za-z0-9_-]", "-", name).strip("-")[:_LONGEST_LABEL]
    return plain or "unnamed"

"""A question over HTTP to a service that answers with the caller's address."""

import re
from http.client import HTTPException
from threading import Thread
from urllib.request import Request, urlopen

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.prefixes import Address, parse_address

__all__ = ["seen_by"]

_WITHIN_S = 10.0
"""For the whole exchange, however slowly it goes on."""
_MOST_BYTES = 65_536


def seen_by(url: str) -> Address:
    """The first address in the service's answer. UnusableInput where it does not answer with one."""
    place = Place(path="--ask")
    if not url.startswith(("http://", "https://")):
        raise UnusableInput([Problem(place, repr(url), "an address that starts with http:// or https://")])
    text, fault = _exchanged(url)
    if fault:
        raise UnusableInput([Problem(place, f"{url}: {fault}", "a service that answers")])
    for word in re.findall(r"[0-9A-Fa-f:.]{3,}", text):
        try:
            return parse_address(word.strip("."))
        except ValueError:
            continue
    raise UnusableInput([Problem(place, f"{text[:60]!r} from {url}", "the caller's address in the answer")])


def _exchanged(url: str) -> tuple[str, str]:
    """The answer's text, or what is wrong; a server that never ends is left alone with its thread."""
    text, fault = list[str](), [f"no whole answer within {_WITHIN_S:g} s"]

    def exchange() -> None:
        try:
            with urlopen(Request(url, headers={"Accept": "text/plain"}), timeout=_WITHIN_S) as answer:
                text.append(answer.read(_MOST_BYTES).decode("utf-8", "replace"))
        except (HTTPException, OSError, ValueError) as error:
            fault[0] = str(error) or type(error).__name__

    asking = Thread(target=exchange, daemon=True)
    asking.start()
    asking.join(_WITHIN_S)
    return (text[0], "") if text else ("", fault[0])

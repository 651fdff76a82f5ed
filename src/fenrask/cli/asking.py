"""A question over HTTP to a service that answers with the caller's address."""

import re
from urllib.error import URLError
from urllib.request import Request, urlopen

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.prefixes import Address, parse_address

__all__ = ["seen_by"]

_WITHIN_S = 10.0
_MOST_BYTES = 65_536


def seen_by(url: str) -> Address:
    """The first address in the service's answer. UnusableInput where it does not answer with one."""
    place = Place(path="--ask")
    if not url.startswith(("http://", "https://")):
        raise UnusableInput([Problem(place, repr(url), "an address that starts with http:// or https://")])
    try:
        with urlopen(Request(url, headers={"Accept": "text/plain"}), timeout=_WITHIN_S) as summary:
            text = summary.read(_MOST_BYTES).decode("utf-8", "replace")
    except (URLError, OSError, ValueError) as error:
        raise UnusableInput([Problem(place, f"{url}: {error}", "a service that answers")]) from None
    for word in re.findall(r"[0-9A-Fa-f:.]{3,}", text):
        try:
            return parse_address(word.strip("."))
        except ValueError:
            continue
    raise UnusableInput([Problem(place, f"{text[:60]!r} from {url}", "the caller's address in the answer")])

"""Address blocks as numbers: parse, contain, overlap, longest match."""

from fenrask.prefixes.blocks import (
    Address,
    Prefix,
    covers,
    fewest_prefixes,
    first_free,
    is_public,
    mapped_to_ipv6,
    overlaps,
    parse_address,
    parse_prefix,
    unmapped,
)
from fenrask.prefixes.table import PrefixTable

__all__ = [
    "Address",
    "Prefix",
    "PrefixTable",
    "covers",
    "fewest_prefixes",
    "first_free",
    "is_public",
    "mapped_to_ipv6",
    "overlaps",
    "parse_address",
    "parse_prefix",
    "unmapped",
]

"""Address blocks as numbers: parse, contain, overlap, longest match."""

from fenrask.prefixes.blocks import (
    PRIVATE,
    Address,
    Prefix,
    covers,
    fewest_prefixes,
    first_free,
    is_public,
    mapped_prefix,
    mapped_to_ipv6,
    overlap,
    overlaps,
    parse_address,
    parse_prefix,
    unmapped,
)
from fenrask.prefixes.partition import Block, Partition, Piece, usable
from fenrask.prefixes.table import PrefixTable

__all__ = [
    "Address",
    "Block",
    "PRIVATE",
    "Partition",
    "Piece",
    "Prefix",
    "PrefixTable",
    "covers",
    "fewest_prefixes",
    "first_free",
    "is_public",
    "mapped_prefix",
    "mapped_to_ipv6",
    "overlap",
    "overlaps",
    "parse_address",
    "parse_prefix",
    "unmapped",
    "usable",
]

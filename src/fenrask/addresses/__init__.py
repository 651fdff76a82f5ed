"""Blocks of public addresses to buy, and what each partner must allow-list."""

from fenrask.addresses.blocks import SINGLE, Purchase, purchases
from fenrask.addresses.explained import explain_addresses
from fenrask.addresses.plan import (
    AddressPlan,
    AllowEntries,
    AllowList,
    Change,
    ExitAddresses,
    Held,
    bought_at,
    listed_at,
    plan_addresses,
    prices_of,
)

__all__ = [
    "SINGLE",
    "AddressPlan",
    "AllowEntries",
    "AllowList",
    "Change",
    "ExitAddresses",
    "Held",
    "Purchase",
    "bought_at",
    "explain_addresses",
    "listed_at",
    "plan_addresses",
    "prices_of",
    "purchases",
]

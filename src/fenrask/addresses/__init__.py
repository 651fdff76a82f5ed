"""Blocks of public addresses to buy, and what each partner must allow-list."""

from fenrask.addresses.blocks import SINGLE, Purchase, purchases
from fenrask.addresses.explained import explain_addresses
from fenrask.addresses.plan import AddressPlan, AllowEntries, AllowList, Change, ExitAddresses, plan_addresses

__all__ = [
    "SINGLE",
    "AddressPlan",
    "AllowEntries",
    "AllowList",
    "Change",
    "ExitAddresses",
    "Purchase",
    "explain_addresses",
    "plan_addresses",
    "purchases",
]

"""Blocks of public addresses to buy, and what each partner must allow-list."""

from fenrask.addresses.blocks import Purchase, purchases
from fenrask.addresses.plan import AddressPlan, AllowEntries, AllowList, ExitAddresses, plan_addresses

__all__ = [
    "AddressPlan",
    "AllowEntries",
    "AllowList",
    "ExitAddresses",
    "Purchase",
    "plan_addresses",
    "purchases",
]

"""Files for the people who build what was planned."""

from fenrask.views.handover.nftables import rules_file, sysctl_file

__all__ = ["rules_file", "sysctl_file"]

"""Files for the people who build, allow, pay for and watch what was planned."""

from fenrask.views.handover.allow_lists import FOLDER
from fenrask.views.handover.contract import HandoverFile
from fenrask.views.handover.hosts import host_file_name
from fenrask.views.handover.nftables import rules_file, sysctl_file
from fenrask.views.handover.order import breaks_text, look_text, notice_look, notice_text
from fenrask.views.handover.whole import Handover, Told

__all__ = [
    "FOLDER",
    "Handover",
    "HandoverFile",
    "Told",
    "breaks_text",
    "host_file_name",
    "look_text",
    "notice_look",
    "notice_text",
    "rules_file",
    "sysctl_file",
]

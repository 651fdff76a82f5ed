"""Translator hosts: rules and table size for each."""

from collections.abc import Iterator, Sequence

from fenrask.capacity import Translator
from fenrask.views.handover.contract import HandoverFile
from fenrask.views.handover.nftables import rules_file, sysctl_file
from fenrask.views.quoting import file_name

__all__ = ["host_file_name", "translator_files"]


def host_file_name(translator: Translator) -> str:
    """The file that a host's rules are in."""
    return file_name(translator.exit, ".nft")


def translator_files(estate: str, found: Sequence[Translator], outward: str) -> Iterator[HandoverFile]:
    """For each host its rules and the size of its table."""
    for translator in found:
        about = f"rules for the translator host {translator.exit}: nft -f"
        yield HandoverFile(host_file_name(translator), about, rules_file(translator, outward, estate).encode("utf-8"))
        about = f"the connection table of {translator.exit}: sysctl -p"
        yield HandoverFile(file_name(translator.exit, ".sysctl.conf"), about, sysctl_file(translator).encode("utf-8"))

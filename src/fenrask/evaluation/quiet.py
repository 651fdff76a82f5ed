"""Whose connections are quiet for long and are used again: an idle timeout that is shorter ends them unnoticed."""

from fenrask.routing import Paths

__all__ = ["quiet_through"]


def quiet_through(paths: Paths, exit_name: str) -> dict[str, float]:
    """By flow through an exit: for how long its connections may be quiet, s, where it says so."""
    quiet = {flow: stated.quiet_s for flow, stated in paths.described.estate.flows.items() if stated.quiet_s}
    return {
        flow: seconds
        for flow, seconds in quiet.items()
        if seconds and any(exit_name in path.example.exits for path in paths.by_flow[flow])
    }

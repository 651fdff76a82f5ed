"""A laboratory made in this machine's kernel: namespaces that hold it, and sockets in them.

Nothing leaves the namespaces, which are joined to each other alone. They are removed whatever happens; those of a run
that was killed are found by their names, and removed at the next.
"""

import ctypes
import os
import platform
import re
import shutil
import subprocess
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Self

from fenrask.errors import OwnFault
from fenrask.rehearsal.laboratory import Laboratory, Space

__all__ = ["PREFIX", "Standing", "inside", "kernel_release", "leftovers", "missing", "remove"]

PREFIX = "fenrask-rehearsal"
"""What the names of all namespaces begin with; the number of the process follows."""
_NEW_NET = 0x40000000
_NUMBER = re.compile(r"0x[0-9a-f]+|\b\d+\b")
_NAMES = Path("/run/netns")
_SETTINGS = {
    "ipv4/conf/all/rp_filter": 0,
    "ipv4/conf/default/rp_filter": 0,
    "ipv4/ip_nonlocal_bind": 1,
    # By addresses, protocol and ports as the packets state them: else a connection changes its path as it is repeated.
    "ipv4/fib_multipath_hash_policy": 3,
    "ipv4/fib_multipath_hash_fields": 0x37,
    "ipv6/ip_nonlocal_bind": 1,
    "ipv6/fib_multipath_hash_policy": 3,
    "ipv6/fib_multipath_hash_fields": 0x37,
    "ipv6/conf/all/accept_dad": 0,
    "ipv6/conf/default/accept_dad": 0,
}
_FORWARDING = ("ipv4/ip_forward", "ipv6/conf/all/forwarding", "ipv6/conf/default/forwarding")


def kernel_release() -> str:
    """The kernel that is asked."""
    return f"{platform.system()} {platform.release()}"


def _run(*words: str, text: str = "") -> str:
    """A command's output; OwnFault where it fails, since all that it is told is made here."""
    done = subprocess.run(words, input=text, capture_output=True, text=True, check=False)
    if done.returncode:
        raise OwnFault(f"{' '.join(words)}: {done.stderr.strip()[:2000]}")
    return done.stdout


@contextmanager
def inside(namespace: str) -> Iterator[None]:
    """This thread in a namespace: sockets that it makes, and commands that it runs, are there."""
    libc = ctypes.CDLL(None, use_errno=True)
    home = os.open("/proc/thread-self/ns/net", os.O_RDONLY)
    try:
        there = os.open(_NAMES / namespace, os.O_RDONLY)
        try:
            if libc.setns(there, _NEW_NET):
                raise OSError(ctypes.get_errno(), "setns")
            yield
        finally:
            libc.setns(home, _NEW_NET)
            os.close(there)
    finally:
        os.close(home)


def leftovers() -> list[str]:
    """Namespaces of runs that are no more."""
    pattern = re.compile(rf"{PREFIX}-(\d+)-")
    found = []
    for path in sorted(_NAMES.glob(f"{PREFIX}-*")) if _NAMES.is_dir() else ():
        match = pattern.match(path.name)
        if match and not _is_running(match[1]):
            found.append(path.name)
    return found


def _is_running(process: str) -> bool:
    """Whether a process lives, and may be one of ours: one that ended has no command line, even before it is reaped."""
    try:
        command = Path(f"/proc/{process}/cmdline").read_bytes()
    except OSError:
        return False
    return b"python" in command or b"fenrask" in command


def remove(namespaces: Iterable[str]) -> None:
    """Namespaces with all that is in them; one that is gone already is none."""
    lines = "".join(f"netns del {one}\n" for one in namespaces if (_NAMES / one).exists())
    if lines:
        subprocess.run(("ip", "-force", "-batch", "-"), input=lines, capture_output=True, text=True, check=False)


def missing() -> str:
    """Why the kernel cannot be asked here; empty where it can."""
    if platform.system() != "Linux":
        return f"{platform.system()}, which has no network namespaces"
    absent = [name for name in ("ip", "nft") if shutil.which(name) is None]
    if absent:
        return f"no {' and no '.join(absent)} (packages iproute2, nftables)"
    if os.geteuid() != 0:
        return "no root, who alone may make network namespaces"
    name = f"{PREFIX}-{os.getpid()}-try"
    done = subprocess.run(("ip", "netns", "add", name), capture_output=True, text=True, check=False)
    if done.returncode:
        return f"no way to make a network namespace: {done.stderr.strip()}"
    rules = "table ip x { chain y { type nat hook postrouting priority 100; snat to 192.0.2.1\n }\n}\n"
    try:
        with inside(name):
            _run("nft", "-f", "-", text=rules)
    except (OwnFault, OSError) as error:
        return f"a kernel that does not translate: {error}"
    finally:
        remove([name])
    return ""


class Standing:
    """A laboratory that stands, as a context: made when it is entered, removed when it is left."""

    def __init__(self, laboratory: Laboratory) -> None:
        self.laboratory = laboratory
        names = laboratory.spaces
        self.namespace = {name: f"{PREFIX}-{os.getpid()}-{number}" for number, name in enumerate(names)}

    def __enter__(self) -> Self:
        remove([*leftovers(), *self.namespace.values()])
        try:
            self._build()
        except BaseException:
            remove(self.namespace.values())
            raise
        return self

    def __exit__(self, *_: object) -> None:
        remove(self.namespace.values())

    def _build(self) -> None:
        spaces = [*self.laboratory.spaces.values()]
        _run("ip", "-batch", "-", text="".join(f"netns add {one}\n" for one in self.namespace.values()))
        with ThreadPoolExecutor(os.cpu_count() or 1) as executor:
            [*executor.map(self._set, spaces)]
            _run("ip", "-batch", "-", text="\n".join(self.laboratory.links(self.namespace)))
            [*executor.map(self._fill, spaces)]

    def _set(self, space: Space) -> None:
        """The kernel's settings, before there are interfaces that take them over."""
        with inside(self.namespace[space.name]):
            for key, value in _SETTINGS.items():
                with suppress(FileNotFoundError):
                    Path("/proc/sys/net", key).write_text(f"{value}\n", encoding="ascii")
            for key in _FORWARDING if space.forwards else ():
                with suppress(FileNotFoundError):
                    Path("/proc/sys/net", key).write_text("1\n", encoding="ascii")

    def _fill(self, space: Space) -> None:
        with inside(self.namespace[space.name]):
            for version in (6, 4):
                _run("ip", f"-{version}", "-batch", "-", text="\n".join(self.laboratory.lines(space, version)))
            if space.statements:
                _run("nft", "-f", "-", text="\n".join(space.statements))

    def tell(self, space: str, commands: str) -> None:
        """Commands of nftables in a space."""
        with inside(self.namespace[space]):
            _run("nft", "-f", "-", text=commands)

    def taken(self, space: str, table: str, name: str) -> set[int]:
        """The elements of a set in a space, which is empty afterwards."""
        with inside(self.namespace[space]):
            told = _run("nft", "-n", "list", "set", "inet", table, name)
            elements = told.partition("elements = {")[2]
            if elements:
                _run("nft", "flush", "set", "inet", table, name)
        return {int(one, 0) for one in _NUMBER.findall(elements)}

"""A source distribution and a wheel, the same bytes each time from the same files.

    python -m supply.building FOLDER

builds what is in the folder where it is run. All times in the archives are `SOURCE_DATE_EPOCH`, or that of the last
commit: the convention of reproducible-builds.org.
"""

import gzip
import io
import os
import subprocess
import sys
import tarfile
from pathlib import Path

from setuptools.build_meta import build_sdist, build_wheel

__all__ = ["built", "normalised"]

_BEGINNING = 315_532_800
"""The first day that an archive of the zip format can tell, 1980-01-01: where neither is known."""


def built(folder: Path) -> list[Path]:
    """Both archives of the project in the working folder, written into `folder`."""
    os.environ.setdefault("SOURCE_DATE_EPOCH", str(_last_commit_s()))
    folder.mkdir(parents=True, exist_ok=True)
    source = folder / build_sdist(str(folder))
    source.write_bytes(normalised(source.read_bytes(), int(os.environ["SOURCE_DATE_EPOCH"])))
    return [source, folder / build_wheel(str(folder))]


def normalised(archive: bytes, time_s: int) -> bytes:
    """A packed tar file with its members in the order of their names, and nobody's times and owners."""
    plain = io.BytesIO()
    # Unpacked at once: in a packed one each step back unpacks all before it again.
    with (
        tarfile.open(fileobj=io.BytesIO(gzip.decompress(archive)), mode="r:") as before,
        tarfile.open(fileobj=plain, mode="w", format=tarfile.PAX_FORMAT) as after,
    ):
        for member in sorted(before.getmembers(), key=lambda one: one.name):
            content = before.extractfile(member) if member.isfile() else None
            member.mtime, member.uid, member.gid, member.uname, member.gname = time_s, 0, 0, "", ""
            member.mode, member.pax_headers = 0o755 if member.isdir() or member.mode & 0o100 else 0o644, {}
            after.addfile(member, content)
    return gzip.compress(plain.getvalue(), mtime=time_s)


def _last_commit_s() -> int:
    told = subprocess.run(["git", "log", "-1", "--format=%ct"], capture_output=True, text=True, check=False).stdout
    return int(told.strip() or _BEGINNING)


if __name__ == "__main__":
    for one in built(Path(sys.argv[1] if len(sys.argv) > 1 else "dist")):
        print(one)

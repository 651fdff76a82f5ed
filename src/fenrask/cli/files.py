"""Files written whole or not at all."""

import os
from collections.abc import Mapping
from errno import EISDIR
from pathlib import Path
from tempfile import NamedTemporaryFile

from fenrask.errors import Place, Problem, UnusableInput

__all__ = ["check_writable", "write_all", "write_whole"]


def check_writable(file: Path, force: bool, endings: tuple[str, ...] = ()) -> None:
    """Whether a file could be written, before anything is computed for it.

    UnusableInput where it exists and `force` is not given, where its folder does not exist, or where its ending is none
    of those that are possible.
    """
    if endings and file.suffix.lower() not in endings:
        found = f"the file ending {file.suffix!r}" if file.suffix else "no file ending"
        raise UnusableInput([Problem(Place(path=str(file)), found, f"one of {', '.join(endings)}")])
    _check_new(file, force)
    if not file.parent.is_dir():
        raise UnusableInput([Problem(Place(str(file)), f"no folder {file.parent}", "a folder that exists")])


def write_whole(file: Path, content: bytes, force: bool) -> None:
    """Write a file through a temporary one beside it, so that no reader ever sees half of it; its folder is made.

    UnusableInput where it exists and `force` is not given, or where it cannot be written.
    """
    write_all({file: content}, force)


def write_all(files: Mapping[Path, bytes], force: bool) -> None:
    """Write several files, all of them or none: only when each has been written beside its place are they put there.

    UnusableInput where one exists and `force` is not given, or cannot be written.
    """
    for file in files:
        _check_new(file, force)
    waiting: list[tuple[Path, Path]] = []
    file = Path()
    try:
        for file, content in files.items():
            if _takes_directly(file):
                with file.open("wb") as stream:
                    stream.write(content)
                continue
            file.parent.mkdir(parents=True, exist_ok=True)
            with NamedTemporaryFile(dir=file.parent, prefix=".writing-", delete=False) as temporary:
                waiting.append((Path(temporary.name), file))
                temporary.write(content)
            waiting[-1][0].chmod(0o666 & ~_mask())
            if file.is_dir():
                raise IsADirectoryError(EISDIR, "a folder")
        while waiting:
            whole, file = waiting[0]
            whole.replace(file)
            waiting.pop(0)
    except OSError as error:
        found = (error.strerror or type(error).__name__).lower()
        raise UnusableInput([Problem(Place(str(file)), found, "a file that can be written")]) from None
    finally:
        for left, _ in waiting:
            left.unlink(missing_ok=True)


def _takes_directly(file: Path) -> bool:
    """Whether it is a device or a pipe: written into, and never put aside for a file."""
    return file.exists() and not file.is_file() and not file.is_dir()


def _check_new(file: Path, force: bool) -> None:
    if file.is_symlink() and not _takes_directly(file):
        remedy = "Give the path that it points to."
        raise UnusableInput([Problem(Place(str(file)), "a symbolic link", "a file, or a new name", remedy)])
    if file.is_file() and not force:
        problem = Problem(Place(str(file)), "a file that exists", "a new one", "Give --force to overwrite it.")
        raise UnusableInput([problem])


def _mask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask

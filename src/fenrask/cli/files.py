"""Files written whole or not at all."""

import os
from pathlib import Path
from tempfile import NamedTemporaryFile

from fenrask.errors import Place, Problem, UnusableInput

__all__ = ["check_writable", "write_whole"]


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
    _check_new(file, force)
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        with NamedTemporaryFile(dir=file.parent, prefix=f".{file.name}.", delete=False) as temporary:
            temporary.write(content)
        whole = Path(temporary.name)
        whole.chmod(0o666 & ~_mask())
        whole.replace(file)
    except OSError as error:
        found = (error.strerror or type(error).__name__).lower()
        raise UnusableInput([Problem(Place(str(file)), found, "a file that can be written")]) from None


def _check_new(file: Path, force: bool) -> None:
    if file.exists() and not force:
        problem = Problem(Place(str(file)), "a file that exists", "a new one", "Give --force to overwrite it.")
        raise UnusableInput([problem])


def _mask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask

"""Files written whole or not at all."""

import os
from pathlib import Path
from tempfile import NamedTemporaryFile

from fenrask.errors import Place, Problem, UnusableInput

__all__ = ["write_whole"]


def write_whole(file: Path, content: bytes, force: bool) -> None:
    """Write a file by way of a temporary one beside it, so that no reader ever sees half of it.

    UnusableInput where it exists and `force` is not given, or where it cannot be written.
    """
    if file.exists() and not force:
        raise UnusableInput(
            [Problem(Place(str(file)), "a file that exists", "a new one", "Give --force to write over it.")]
        )
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


def _mask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask

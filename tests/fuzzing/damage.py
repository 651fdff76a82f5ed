"""Contents damaged at random, as files are in the field: bytes lost, doubled, turned, replaced by what is special."""

import random

__all__ = ["damaged"]

_SPECIAL = (
    b"\0", b"\xff" * 4, b"\x7f\xff\xff\xff", b"-1", b"0", b"1e999", b"NaN", b"9" * 40, b"1,5", b";", b"\t", b"\r\n",
    b'"', b"'", b"{", b"[", b"&a", b"*a", b": ", b"- ", b"null", b"true", b"::/0", b"0.0.0.0/0", b"10.0.1.1/24",
    b"::ffff:10.0.0.1", b"\xef\xbb\xbf", b"\xe2\x80\xae", b"\x1b[31m", b"=1+1", b"../../x", b"2026-13-40",
)  # fmt: skip


def damaged(content: bytes, dice: random.Random) -> bytes:
    """The content after one to four of such changes."""
    whole = bytearray(content)
    for _ in range(dice.choice((1, 1, 2, 4))):
        at = dice.randrange(len(whole) + 1)
        until = min(len(whole), at + dice.choice((1, 2, 4, 8, 32)))
        match dice.randrange(7):
            case 0 if at < len(whole):
                whole[at] ^= 1 << dice.randrange(8)
            case 1:
                del whole[at:until]
            case 2:
                whole[at:at] = whole[at:until] * dice.choice((1, 2, 50))
            case 3:
                whole[at:at] = dice.choice(_SPECIAL)
            case 4:
                whole[at:until] = dice.choice(_SPECIAL)
            case 5:
                del whole[at:]
            case _:
                whole[at:until] = dice.randbytes(until - at)
    return bytes(whole)

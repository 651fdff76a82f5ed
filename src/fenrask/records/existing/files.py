"""Files of what exists, each known by what is in it, and what they tell together."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice
from pathlib import Path
from typing import Any

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.inputs import at, file_bytes, is_file, json_values
from fenrask.prefixes import Address, parse_address
from fenrask.records.batch import Unread
from fenrask.records.bills import Billed, read_bill
from fenrask.records.existing.facts import Facts
from fenrask.records.existing.inventories import WORDS, headings, knows_inventory, read_inventory
from fenrask.records.existing.linux import knows_linux, read_linux
from fenrask.records.existing.places import subnet_prefixes
from fenrask.records.existing.sheets import sheet_of_entries, sheet_of_text
from fenrask.records.existing.traffic import Seen, seen_in
from fenrask.records.existing.updating import known_of
from fenrask.records.existing.yang import knows_yang, read_yang
from fenrask.records.readers import FIELDS, format_of, read_datagrams, read_records
from fenrask.units import counted

__all__ = ["COLUMNS", "Files", "of_records", "read_files"]

_MOST_TEXT = 256 * 2**20


@dataclass
class Files:
    """What files told, and what each of them is."""

    facts: Facts = field(default_factory=Facts)
    kinds: dict[str, str] = field(default_factory=dict)
    records: list[str] = field(default_factory=list)
    """Files of connection records, which are read twice."""
    billed: list[Billed] = field(default_factory=list)
    unread: Unread = field(default_factory=lambda: Unread({}))
    columns: Mapping[str, str] = field(default_factory=dict)
    named: Mapping[str, str] = field(default_factory=dict)
    """Whose a file is, where its name does not say so: a machine, a route table."""
    seen: Seen | None = None


COLUMNS: tuple[str, ...] = tuple(dict.fromkeys((*WORDS, *FIELDS)))
"""The fields of tables, whose columns can be stated."""


def read_files(
    files: Sequence[str],
    columns: Mapping[str, str],
    estate: Mapping[str, Any] | None = None,
    named: Mapping[str, str] | None = None,
) -> Files:
    """Take what every file tells; UnusableInput with each that cannot be used.

    columns: the columns of our fields, where their names do not say so. estate: what says all that they do not. named:
    whose a file is, where its name does not say so.
    """
    found, problems = Files(columns=columns, named=named or {}), list[Problem]()
    for file in files:
        try:
            found.kinds[file] = _read(file, found)
        except UnusableInput as error:
            problems += error.problems
    if problems:
        raise UnusableInput(problems)
    known_of(estate or {}, found.facts)
    found.facts.settle()
    if found.records:
        found.seen = _seen(found)
    return found


def _read(file: str, found: Files) -> str:
    """Take one file; what it is, in words."""
    path = Path(file)
    if file == "-" or not is_file(path):
        raise UnusableInput([Problem(Place(file), "standard input" if file == "-" else "no such file", "a file")])
    with path.open("rb") as stream:
        head = stream.read(1 << 16)
    for take in (_bill, _json, _table, _zone_file, _dump):
        if what := take(path, head, found):
            _check_named(path, take is _json, found)
            return what
    _check_table(path, head, found.columns)
    _check_named(path, False, found)
    kind = format_of(file, found.unread)
    found.records.append(file)
    names = _answers_in(path, found)
    answered = f", with answers for {counted(names, 'name')}" if names else ""
    return f"connection records ({kind}{answered})"


def _check_named(path: Path, is_named: bool, found: Files) -> None:
    """Count a name that was given to a file which takes none."""
    if (name := found.named.get(str(path))) and not is_named:
        found.facts.skip(f"the name {name}: only JSON of one machine takes one", str(path))


_MAPPED = "Say which column is which: --map FIELD=COLUMN."


def _check_table(path: Path, head: bytes, columns: Mapping[str, str]) -> None:
    """UnusableInput for a table that is neither of records nor of anything else."""
    first = (_text(head) or "").split("\n", 1)[0].strip()
    names = re.split(r"[,;\t]", first)
    known = {re.sub(r"[^a-z0-9]", "", one.lower()) for one in names}
    of_ends = all(known & {*FIELDS[end]} or columns.get(end) in names for end in ("source", "target"))
    if len(names) > 1 and not of_ends and not head.startswith(b"<"):
        found = f"the columns {', '.join(one.strip() for one in names[:6])}"
        raise UnusableInput(
            [Problem(Place(str(path)), found, f"connection records, a bill, or one of: {headings()}", _MAPPED)]
        )


def _bill(path: Path, head: bytes, found: Files) -> str:
    """Each of these takes a file of its kind, and says in words what it is; empty where it is of another kind."""
    is_parquet = head[:4] == b"PAR1"
    if not (_is_bill(path) if is_parquet else b"BilledCost" in head.split(b"\n", 1)[0]):
        return ""
    problems: list[Problem] = []
    found.billed += read_bill(_content(path), path.name, "", problems)
    if problems:
        raise UnusableInput(problems)
    return "a bill (FOCUS)"


def _json(path: Path, head: bytes, found: Files) -> str:
    text = _text(head)
    if text is None or text.lstrip()[:1] not in ("{", "["):
        return ""
    try:
        data = json_values(_whole(path))
    except (ValueError, RecursionError) as error:
        raise UnusableInput([Problem(Place(str(path)), "no JSON", f"JSON as it began: {error}")]) from None
    stem = found.named.get(str(path), path.name.split(".")[0])
    if data == []:
        return "nothing: an empty list"
    try:
        if knows_yang(data):
            return read_yang(data, path.name, stem, found.facts)
        if knows_linux(data):
            return read_linux(data, path.name, stem, found.facts)
    except (ValueError, TypeError, KeyError, AttributeError, IndexError) as error:
        what = f"a value of another shape ({type(error).__name__}: {error})"
        raise UnusableInput([Problem(Place(str(path)), what, "what the YANG module, ip or nft writes")]) from None
    sheet = sheet_of_entries(data)
    if sheet is not None and knows_inventory(sheet, found.columns):
        return read_inventory(sheet, path.name, found.columns, found.facts)
    named = sheet.heading if sheet is not None else [*data] if isinstance(data, dict) else ["a list of something else"]
    expected = f"YANG (ietf-routing, ietf-nat, ...), what ip and nft write as JSON, or entries of one of: {headings()}"
    raise UnusableInput([Problem(Place(str(path)), ", ".join(map(str, named[:6])) or "nothing", expected, _MAPPED)])


def _table(path: Path, head: bytes, found: Files) -> str:
    text = _text(head)
    if text is None or not knows_inventory(sheet_of_text(text), found.columns):
        return ""
    return read_inventory(sheet_of_text(_whole(path)), path.name, found.columns, found.facts)


def _zone_file(path: Path, head: bytes, found: Files) -> str:
    text = _text(head)
    if text is None or not _ZONE.search(text):
        return ""
    for name, addresses in _names_of(path).items():
        for address in addresses:
            found.facts.names.setdefault(name, {}).setdefault(address, path.name)
    return "a zone file of names"


def _text(head: bytes) -> str | None:
    """The first part of a text; None where it is none, or packed."""
    try:
        text = head.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        # A letter may be cut at the end of what was read.
        if error.start < len(head) - 4:
            return None
        text = head[: error.start].decode("utf-8-sig")
    return None if "\0" in text else text


def _whole(path: Path) -> str:
    return _content(path).decode("utf-8-sig", errors="replace")


def _content(path: Path) -> bytes:
    return file_bytes(path, at(Place(str(path)), "a smaller file"))


def _is_bill(path: Path) -> bool:
    import pyarrow.parquet as parquet

    try:
        return "BilledCost" in parquet.read_schema(path).names
    except Exception:  # noqa: BLE001 - whatever is wrong with it, the reader of records says it
        return False


_ZONE = re.compile(r"^\$ORIGIN\s|^\S*\s+(\d+\s+)?(IN\s+)?SOA\s", re.MULTILINE)


def _names_of(path: Path) -> dict[str, list[Address]]:
    """The addresses of the names of a zone file (RFC 1035), aliases followed: those are asked for."""
    import dns.exception
    import dns.name
    import dns.rdatatype
    import dns.zone

    try:
        zone = dns.zone.from_text(_whole(path), check_origin=False)
    except (dns.exception.DNSException, ValueError, KeyError) as error:
        raise UnusableInput([Problem(Place(str(path)), str(error), "a zone file (RFC 1035)")]) from None
    aliases: dict[str, str] = {}
    found: dict[str, list[Address]] = {}
    for label, _, record in zone.iterate_rdatas():
        name, text = str(label.derelativize(zone.origin or dns.name.root)).rstrip(".").lower(), record.to_text()
        if record.rdtype == dns.rdatatype.CNAME:
            target = dns.name.from_text(text, zone.origin)
            aliases[name] = str(target).rstrip(".").lower()
        elif record.rdtype in (dns.rdatatype.A, dns.rdatatype.AAAA):
            found.setdefault(name, []).append(parse_address(text))
    for name, target_name in aliases.items():
        end = target_name
        for _ in aliases:
            end = aliases.get(end, end)
        if end in found:
            found[name] = found[end]
    return {name: some for name, some in found.items() if name not in aliases.values()}


_DNS = 53
_MOST_ANSWERS = 100_000
_HOST_NAME = re.compile(r"[a-z0-9_-]+(\.[a-z0-9_-]+)*")
"""As hosts are named (RFC 1123, section 2.1), or services; what else DNS may hold is no name of a destination."""


def _answers_in(path: Path, found: Files) -> int:
    """Take the addresses that names were answered with in a packet capture (RFC 1035); for how many names."""
    import dns.exception
    import dns.message
    import dns.rdatatype

    named = set[str]()
    for payload in islice(read_datagrams(str(path), _DNS, Unread({})), _MOST_ANSWERS):
        try:
            message = dns.message.from_wire(payload, ignore_trailing=True)
        except (dns.exception.DNSException, ValueError):
            found.unread.add("answers of DNS that cannot be read", path.name)
            continue
        asked = [one for one in message.question if one.rdtype in (dns.rdatatype.A, dns.rdatatype.AAAA)]
        for rrset in message.answer if asked else ():
            if rrset.rdtype in (dns.rdatatype.A, dns.rdatatype.AAAA):
                # An alias leads on from what was asked for.
                name = str(asked[0].name).rstrip(".").lower()
                if not _HOST_NAME.fullmatch(name):
                    found.unread.add("answers of DNS for what is no host name", path.name)
                    break
                named.add(name)
                for record in rrset:
                    found.facts.names.setdefault(name, {}).setdefault(parse_address(record.to_text()), path.name)
    return len(named)


def _dump(path: Path, head: bytes, found: Files) -> str:
    """A routing table dump (RFC 6396), by its first record's type."""
    if len(head) < 12 or head[4:6] not in (b"\x00\x0c", b"\x00\x0d") or head[6] != 0:
        return ""
    from fenrask.estate.mrt import mrt_prefixes

    content = _content(path)
    try:
        found.facts.dumps[path.name] = (content, len(mrt_prefixes(content)))
    except ValueError:
        return ""
    return "a dump of routes (MRT)"


def of_records(columns: Mapping[str, str]) -> dict[str, str]:
    return {field: column for field, column in columns.items() if field in FIELDS}


def _seen(found: Files) -> Seen:
    """The ends of the connections of all records."""
    seen, subnets = Seen(), subnet_prefixes(found.facts)
    for file in found.records:
        _, _, batches = read_records(file, Unread({}), of_records(found.columns))
        seen_in(batches, subnets, seen)
        seen.files.append(Path(file).name)
    return seen

"""`fenrask start`."""

import json
import sys
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Annotated, Any

import typer

from fenrask.cli.files import write_all, write_whole
from fenrask.cli.options import Call
from fenrask.cli.screen import say
from fenrask.demo.samples import BEGINNING
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import read_estate, read_patch
from fenrask.estate.schema import SCHEMAS, json_schema
from fenrask.estate.writing import estate_text, renamed, without_its_own
from fenrask.inputs import at, file_text

__all__ = ["command"]

_LOADS, _KEPT = "loads.json", "drafted.json"


def command(
    words: Annotated[
        list[str] | None,
        typer.Argument(metavar="[FOLDER] [FILE]...", help="Where the estate is written; and more files for --from."),
    ] = None,
    sources: Annotated[
        list[str] | None,
        typer.Option(
            "--from",
            metavar="FILE",
            help="Begin from what there is; may be repeated. Files, or folders of them, each known by what is in it: "
            "inventories of networks, subnets, hosts, exits and route tables (CSV); routes, NAT, access lists, "
            "interfaces, topology (YANG in JSON); `ip -json route`, `address`, `rule`; `nft -j list ruleset`; route "
            "dumps (MRT); names (a zone file, CSV, answers in a capture); connection records (whatever `measure` "
            "reads); a bill (FOCUS). Or another estate, as a template.",
        ),
    ] = None,
    named: Annotated[
        list[str] | None,
        typer.Option(
            "--from-named",
            metavar="NAME=FILE",
            help="The same of a file of one machine, or one route table, whose name is not that of the file up to its "
            "first dot.",
        ),
    ] = None,
    columns: Annotated[
        list[str] | None,
        typer.Option(
            "--map", metavar="FIELD=COLUMN", help="Of tables: the column of a field, where its name is another."
        ),
    ] = None,
    below: Annotated[
        float,
        typer.Option(
            metavar="SHARE",
            min=0,
            max=1,
            help="With records: destinations with less than this share of connections, open time and bytes are one, "
            "`elsewhere`.",
        ),
    ] = 0.01,
    update: Annotated[
        Path | None,
        typer.Option(
            metavar="ESTATE",
            help="Instead of a new estate: print what newer files change in this one, as a JSON Merge Patch; what was "
            "written by hand stays.",
        ),
    ] = None,
    names: Annotated[
        Path | None,
        typer.Option(
            metavar="FILE",
            help="With --from of an estate: a YAML file of what is new: `estate`, and `names`, `zones`, `regions`, "
            "`prefixes` from old to new.",
        ),
    ] = None,
    out: Annotated[
        Path | None, typer.Option(metavar="FILE", help="With --update: write the patch to this file.")
    ] = None,
    force: Annotated[bool, typer.Option("--force", help="Overwrite existing files.")] = False,
) -> None:
    owners = _owners(named or [])
    folder, files = _asked(words or [], [*(sources or []), *owners], update)
    files = [one for file in files for one in _each(file)]
    template = Path(files[0]) if len(files) == 1 and _is_estate(files[0]) else None
    if names and template is None:
        raise UnusableInput([Problem(Place(path="--names"), "no --from", "an estate to begin from")])
    if update is not None:
        _update(update, _Asked(files, owners, _columns(columns or []), below), out, force)
    elif files and template is None:
        _draft(folder or Path(), _Asked(files, owners, _columns(columns or []), below), force)
    else:
        contents, left_out = _from(template, names) if template else (BEGINNING.contents(), [])
        contents = {**contents, **_schemas()}
        write_all({(folder or Path()) / name: content for name, content in contents.items()}, force)
        for name in contents:
            say(f"wrote {(folder or Path()) / name}")
        for what in left_out:
            say(f"not copied: {what}")
        say(f"Next: cd {folder} && fenrask check")


@dataclass(frozen=True)
class _Asked:
    """What an estate is drafted from: files, whose some are, columns by field, and which destinations are one."""

    files: list[str]
    owners: dict[str, str]
    columns: dict[str, str]
    below: float


def _owners(named: list[str]) -> dict[str, str]:
    """Whose each file is."""
    pairs = [(text, *text.partition("=")[::2]) for text in named]
    if wrong := [
        Problem(Place(path="--from-named"), repr(text), "NAME=FILE") for text, *both in pairs if not all(both)
    ]:
        raise UnusableInput(wrong)
    return {str(Path(file)): name for _, name, file in pairs}


def _asked(words: list[str], sources: list[str], update: Path | None) -> tuple[Path | None, list[str]]:
    """The folder, and all files; with --update there is no folder."""
    if update is not None:
        if not (words or sources):
            raise typer.BadParameter("--update needs newer files: --from FILE...")
        return None, [*sources, *words]
    if not words:
        raise typer.BadParameter("give the folder that the estate is written to")
    if words[1:] and not sources:
        raise typer.BadParameter(f"{words[1]}: files to begin from come with --from")
    return Path(words[0]), [*sources, *words[1:]]


def _each(file: str) -> list[str]:
    """A file; or all that lie in a folder, by name."""
    path = Path(file)
    return sorted(str(one) for one in path.iterdir() if one.is_file()) if path.is_dir() else [file]


def _is_estate(file: str) -> bool:
    """Whether a file is an estate, by its ending and its first key."""
    return file.endswith((".yaml", ".yml"))


def _schemas() -> dict[str, bytes]:
    """The schemas that the first line of an estate and a catalogue names, by which editors complete and check them."""
    return {f"{one}.schema.json": (json.dumps(json_schema(one), indent=2) + "\n").encode() for one in SCHEMAS}


def _columns(stated: list[str]) -> dict[str, str]:
    from fenrask.records.existing import COLUMNS

    pairs = [one.partition("=") for one in stated]
    wrong = [
        Problem(Place(path="--map"), repr(field), f"FIELD=COLUMN, with one of {', '.join(COLUMNS)}")
        for field, is_one, column in pairs
        if field not in COLUMNS or not is_one or not column
    ]
    if wrong:
        raise UnusableInput(wrong)
    return {field: column for field, _, column in pairs}


def _draft(folder: Path, asked: _Asked, force: bool) -> None:
    """Write an estate of what files tell, and print what they are, what was assumed, and what differs."""
    from fenrask.records.existing import drafted, read_files
    from fenrask.records.existing.updating import Drafted
    from fenrask.views.drafted import draft_files
    from fenrask.views.pages.start import draft_page

    found = read_files(asked.files, asked.columns, named=asked.owners)
    draft = drafted(found, folder.resolve().name, datetime.now(UTC).date().isoformat(), asked.below)
    contents = draft_files(found, draft, _LOADS)
    kept = Drafted()
    kept.take(draft)
    contents[_KEPT] = kept.text().encode()
    contents |= _schemas()
    write_all({folder / name: content for name, content in contents.items()}, force)
    Call(force=force).show(draft_page(draft.data["estate"], found, draft))
    for name in contents:
        say(f"wrote {folder / name}")
    say(f"Next: cd {folder} && fenrask check")


def _update(estate: Path, asked: _Asked, out: Path | None, force: bool) -> None:
    """Print what newer files change in a drafted estate; the loads are written beside it, under a new name."""
    from fenrask.records.existing import drafted, read_files
    from fenrask.records.existing.updating import Drafted, other_rates, updated
    from fenrask.views.drafted import draft_files
    from fenrask.views.pages.start import kept_lines, rate_lines

    described, stated = read_estate(estate, to_be_measured=True), read_patch(estate)
    data = {**described.data, "flows": stated.get("flows", {}), "profiles": stated.get("profiles", {})}
    kept_file, today = estate.parent / _KEPT, datetime.now(UTC).date().isoformat()
    expected = "what `fenrask start --from` kept of its draft beside the estate"
    before = Drafted.read(file_text(kept_file, at(Place(str(kept_file)), expected)), str(kept_file))
    found = read_files(asked.files, asked.columns, data, asked.owners)
    draft = drafted(found, str(data["estate"]), today, asked.below)
    loads_file = _new_name(estate.parent, f"loads-{today}")
    contents = draft_files(found, draft, loads_file)
    if (same := _same_loads(estate.parent, contents.get(loads_file), data)) is not None:
        draft.rename_loads(loads_file, same)
    update = updated(data, draft, before, found)
    text = json.dumps(update.patch, indent=2) + "\n"
    if loads_file in contents and loads_file in text:
        write_whole(estate.parent / loads_file, contents[loads_file], force)
        say(f"wrote {estate.parent / loads_file}")
    before.take(draft)
    write_whole(kept_file, before.text().encode(), force=True)
    for line in (*kept_lines(update.kept), *rate_lines(other_rates(described.catalogue_data, draft))):
        say(line)
    if out is not None:
        write_whole(out, text.encode(), force)
        say(f"wrote {out}")
        say(f"Next: fenrask check {estate} --patch {out}")
    else:
        sys.stdout.write(text)
    _check_patch(estate, text)


def _same_loads(folder: Path, content: bytes | None, data: Mapping[str, Any]) -> str | None:
    """The file of loads that a flow refers to already, and that says the same."""
    names = dict.fromkeys(one.get("measured") for one in data["flows"].values() if isinstance(one, Mapping))
    files = [name for name in names if isinstance(name, str) and Path(name).name == name and (folder / name).is_file()]
    return next((name for name in files if (folder / name).read_bytes() == content), None)


def _check_patch(estate: Path, text: str) -> None:
    """UnusableInput, with all of it, where the estate does not hold together with a patch."""
    with TemporaryDirectory() as folder:
        patch = Path(folder) / "the patch"
        patch.write_text(text, encoding="utf-8")
        try:
            read_estate(estate, [patch], to_be_measured=True)
        except UnusableInput as error:
            told = [
                replace(one, place=replace(one.place, file=one.place.file.removeprefix(f"{folder}/")))
                for one in error.problems
            ]
            raise UnusableInput(told) from None


def _new_name(folder: Path, stem: str) -> str:
    """A name that no file of the folder has."""
    number, name = 2, f"{stem}.json"
    while (folder / name).exists():
        number, name = number + 1, f"{stem}-{number}.json"
    return name


def _from(source: Path, names: Path | None) -> tuple[dict[str, bytes], list[str]]:
    """The files of an estate like another one, and what was not copied; UnusableInput for what does not hold."""
    described = read_estate(source)
    mapping = read_patch(names) if names else {}
    moves = mapping.get("prefixes") if isinstance(mapping, dict) else None
    data, left_out = without_its_own(described.data, moves if isinstance(moves, dict) else None)
    data = renamed(data, mapping, str(names)) if names else data
    catalogue = source.parent / str(data["catalogue"])
    with TemporaryDirectory() as folder:
        # What is written must be readable: the names may collide, the prefixes overlap.
        trial = Path(folder) / "estate.yaml"
        (Path(folder) / catalogue.name).write_bytes(catalogue.read_bytes())
        data["catalogue"] = catalogue.name
        trial.write_text(estate_text(data), encoding="utf-8")
        read_estate(trial)
    return {"estate.yaml": estate_text(data).encode(), catalogue.name: catalogue.read_bytes()}, left_out

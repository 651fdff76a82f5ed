"""Mistakes that people make in files, each with the whole sentence that they read: what, where, and what to write."""

import unittest
from pathlib import Path

import yaml

from fenrask.demo import BEGINNING
from fenrask.errors import UnusableInput
from fenrask.estate import read_estate
from tests.support import InFolder

_FROM = "the workload; of a flow that comes in: `internet`, a third party, a destination or a network"
_LOADS = "per_host_per_s, requests_per_host_per_s, users, persistent_per_host"
_PREFIX = "a prefix such as 10.40.1.0/24 or 2001:db8:1::/48"
MISTAKES: tuple[tuple[str, str, str, str], ...] = (
    # What it is; what is replaced by what; what is said after the file's name.
    ("a tab", "  office:", "\toffice:", "8:1: a tab\n  Indent with spaces."),
    ("no end of {", "10.20.0.0/16]}", "10.20.0.0/16]",
     "8:11: a { that is not closed, or a comma that is missing after it\n  Close it with }."),
    ("no end of [", "[10.20.0.0/16]}", "[10.20.0.0/16}",
     "8:37: a [ that is not closed, or a comma that is missing after it\n  Close it with ]."),
    ("no end of a quote", "estate: Example", 'estate: "Example',
     "4:9: a quote that is not closed\n  Close it with the same quote."),
    ("no colon", "networks:", "networks", "7:1: a line without a colon\n  Write `key: value`."),
    ("two colons", "estate: Example", "estate: Example: two",
     "4:16: a second colon in one line\n  Put text with a colon in quotes."),
    ("no blank after a colon", "region: north", "region:north",
     "8:12 networks.office.region:north: an unknown key\n  Write `region: north`, with a space after the colon."),
    ("one blank too many", "  app-b:", "   app-b:",
     "12:4: a line that is indented otherwise than those beside it\n  Give it as many spaces as these."),
    ("a sign that begins nothing", "region: north", "region: @north",
     "8:20: '@', which begins no value\n  Put it in quotes."),
    ("an asterisk", "region: north", "region: *north",
     "8:20: an * before a name that no & gave\n  Put text that begins with * in quotes."),
    ("a zero byte", "Example", "Exa\0mple", "1:1: a control character\n  Take it out."),
    ("a key twice", "flows:", "exits: {}\nflows:",
     "30:1 exits: the key 'exits' twice, expected each key once\n  Remove or rename one."),
    ("a section misspelt", "destinations:", "destination:",
     "23:1 destination: an unknown key\n  Did you mean 'destinations'?"),
    ("a key misspelt", "per_host_per_s: 5", "per_host_per_sec: 5",
     "31:36 flows.orders.per_host_per_sec: an unknown key\n"
     "  Did you mean 'per_host_per_s' or 'requests_per_host_per_s'?"),
    ("a need misspelt", "fixed_source: true", "fixed_sources: true",
     "24:58 destinations.partner.needs.fixed_sources: an unknown key\n  Did you mean 'fixed_source'?"),
    ("an old key", "duration_s: 2", "life_s: 2",
     "31:69 flows.orders.life_s: the old key 'life_s', expected `duration_s`\n  Write `duration_s`."),
    ("a prefix with bits of a host", "10.20.1.0/24", "10.20.1.7/24",
     "11:38 subnets.app-a.prefix: '10.20.1.7/24', expected a prefix without host bits, such as 10.20.1.0/24"),
    ("a prefix that is too long", "10.20.1.0/24", "10.20.1.0/33",
     f"11:38 subnets.app-a.prefix: '10.20.1.0/33', expected {_PREFIX}"),
    ("an address that is none", "203.0.113.10", "203.0.113.300",
     f"24:24 destinations.partner.prefixes.0: '203.0.113.300', expected {_PREFIX}"),
    ("hosts below none", "hosts: 20", "hosts: -1",
     "28:34 workloads.app.hosts: -1, expected a number, at least 0\n  `hosts`: hosts in all these subnets together."),
    ("half a host", "hosts: 20", "hosts: 2.5",
     "28:34 workloads.app.hosts: 2.5, expected a whole number\n  `hosts`: hosts in all these subnets together."),
    ("hosts in words", "hosts: 20", "hosts: many",
     "28:34 workloads.app.hosts: 'many', expected a whole number\n  `hosts`: hosts in all these subnets together."),
    ("a decimal comma", "per_host_per_s: 5", 'per_host_per_s: "5,5"',
     "31:36 flows.orders.per_host_per_s: '5,5', expected a number\n  Write 5.5: with a point, no comma."),
    ("no workload", "orders: {from: app, ", "orders: {", f"31:3 flows.orders: no `from`, expected {_FROM}"),
    ("another workload", "orders: {from: app,", "orders: {from: ap,",
     "31:12 flows.orders.from: 'ap', expected a name from `workloads`\n  Did you mean 'app'?"),
    ("another destination", "to: partner,", "to: partners,",
     "31:23 flows.orders.to: 'partners', expected a name from `destinations`\n  Did you mean 'partner'?"),
    ("another network", "app-a:  {network: office", "app-a:  {network: offices",
     "11:12 subnets.app-a.network: 'offices', expected a name from `networks`\n  Did you mean 'office'?"),
    ("another profile", "profile: day", "profile: night",
     "31:55 flows.orders.profile: 'night', expected a name from `profiles`\n  Known: day."),
    ("another kind", "kind: direct-internet", "kind: direct-internets",
     "20:3 exits.door: the kind 'direct-internets', expected a kind of exit\n  Did you mean 'direct-internet'?"),
    ("no kind", "kind: direct-internet, ", "",
     "20:3 exits.door: no `kind`, expected a kind of exit\n  Known: "),
    ("another offer", "offer: gateway", "offer: gatewai",
     "21:37 exits.gate.offer: 'gatewai', expected an offer of the catalogue\n  Did you mean 'gateway'?"),
    ("an hour too few", "day: [0.5, ", "day: [",
     "35:3 profiles.day: expected 24 or 168 multipliers, not 23\n"
     "  Other steps divide a day or a week into even parts of an hour, of a minute to two hours."),
    ("an hour below nothing", "day: [0.5, ", "day: [-0.5, ",
     "35:9 profiles.day.0: -0.5, expected a number, at least 0"),
    ("an hour in words", "day: [0.5, ", "day: [half, ", "35:9 profiles.day.0: 'half', expected a number"),
    ("addresses in words", "edge-a, addresses: auto", "edge-a, addresses: four",
     "21:69 exits.gate.addresses: 'four', expected auto, a number of addresses, or a list of addresses"),
    ("addresses below none", "edge-a, addresses: auto", "edge-a, addresses: -2",
     "21:69 exits.gate.addresses: -2, expected a number, at least 0"),
    ("neither true nor false", "fixed_source: true", "fixed_source: yes please",
     "24:58 destinations.partner.needs.fixed_source: 'yes please', expected true or false\n"
     "  `fixed_source`: the remote end must see an address that does not change."),
    ("a share in per cent", "blocking: 0.0001", "blocking: 1%",
     "37:11 targets.blocking: '1%', expected a number\n  Write 0.01: a share, not per cent."),
    ("a share above all", "blocking: 0.0001", "blocking: 2",
     "37:11 targets.blocking: 2, expected a number, less than 1\n"
     "  `blocking`: maximum share of new connections that find no free port at the peak."),
    ("a port by its name", "port: 443", "port: https",
     "24:39 destinations.partner.port: 'https', expected a whole number\n  `port`: its port."),
    ("a port that is none", "port: 443", "port: 70000",
     "24:39 destinations.partner.port: 70000, expected a number, at most 65535\n  `port`: its port."),
    ("two loads", "per_host_per_s: 5", "per_host_per_s: 5, persistent_per_host: 3",
     f"31:3 flows.orders: expected one of {_LOADS}, not per_host_per_s and persistent_per_host\n"
     "  State the flow's load in one way."),
    ("no load", "per_host_per_s: 5, ", "",
     f"31:3 flows.orders: expected one of {_LOADS}\n  State the flow's load in one way."),
    ("another catalogue", "catalogue: catalogue.yaml", "catalogue: nowhere.yaml",
     "5:1 catalogue: 'nowhere.yaml', expected a file beside the estate\n  Known: catalogue.yaml."),
    ("no catalogue", "catalogue: catalogue.yaml\n", "",
     "4:1: no `catalogue`, expected the file of the provider's offers, relative to this file"),
    ("a default in words", "private: {0.0.0.0/0: gate}", "private: {default: gate}",
     "16:13 route_tables.private.default: 'default', expected a prefix, or a destination's name\n"
     "  Known: partner, archive."),
    ("next hops as words", "{0.0.0.0/0: gate}", "{0.0.0.0/0: [gate]}",
     "16:25 route_tables.private.0.0.0.0/0.0: 'gate', expected an exit as `{exit: NAME}`, where a route has several"),
    ("an entry that is empty", "app-a:  {network: office, zone: a, prefix: 10.20.1.0/24, routes: private}", "app-a:",
     "11:3 subnets.app-a: nothing, expected a mapping of keys"),
    ("a date", "hosts: 20", "hosts: 2026-01-01",
     "28:34 workloads.app.hosts: '2026-01-01', expected a whole number\n"
     "  `hosts`: hosts in all these subnets together."),
    ("more than there is", "hosts: 20", "hosts: 1e400",
     "28:34 workloads.app.hosts: inf, expected a whole number\n  `hosts`: hosts in all these subnets together."),
)  # fmt: skip


class InAnEstate(InFolder):
    def said(self, text: str) -> str:
        """What is said of an estate, after its file's name."""
        file = self.folder / "estate.yaml"
        file.write_text(text, encoding="utf-8")
        with self.assertRaises(UnusableInput) as caught:
            read_estate(file)
        return str(caught.exception).replace(f"{file}:", "")

    def test_each_is_said_in_one_sentence_with_what_to_write(self) -> None:
        contents = {name: content.decode() for name, content in BEGINNING.contents().items()}
        (self.folder / "catalogue.yaml").write_text(contents["catalogue.yaml"], encoding="utf-8")
        for name, old, new, expected in MISTAKES:
            text = contents["estate.yaml"].replace(old, new, 1)
            with self.subTest(name):
                self.assertNotEqual(text, contents["estate.yaml"])
                told = self.said(text)
                self.assertTrue(told.startswith(expected), f"\n{told}\n{expected}")
                # One mistake is one problem.
                self.assertLessEqual(len(told.splitlines()), 2, told)
                self.assertLess(len(max(told.splitlines(), key=len)), 190)

    def test_two_hundred_kinds_each_as_a_person_would_say_it(self) -> None:
        contents = {name: content.decode() for name, content in BEGINNING.contents().items()}
        known = yaml.safe_load((Path(__file__).parent / "mistakes.yaml").read_text(encoding="utf-8"))
        self.assertGreater(len(known) + len(MISTAKES), 200)
        for one in known:
            with self.subTest(one["what"]):
                texts, name = dict(contents), f"{one['in']}.yaml"
                texts[name] = texts[name].replace(one["replace"], one["by"], 1)
                self.assertNotEqual(texts[name], contents[name])
                (self.folder / "catalogue.yaml").write_text(texts["catalogue.yaml"], encoding="utf-8", newline="")
                told = self.said(texts["estate.yaml"]).replace(f"{self.folder}/", "").replace(f"{name}:", "")
                self.assertEqual(told, one["said"])
                # In words of a person: no class, no exception, no word of the parser's.
                self.assertNotRegex(told, r"(?i)input|pydantic|error|instance|nonetype|traceback")

    def test_a_key_that_is_misspelt_in_one_entry_hides_none_that_another_lacks(self) -> None:
        contents = {name: content.decode() for name, content in BEGINNING.contents().items()}
        (self.folder / "catalogue.yaml").write_text(contents["catalogue.yaml"], encoding="utf-8")
        text = (
            contents["estate.yaml"]
            .replace("orders: {from: app", "orders: {form: app")
            .replace("backup: {from: app, ", "backup: {")
        )
        told = self.said(text)
        self.assertIn("flows.orders.form: an unknown key", told)
        self.assertIn("flows.backup: no `from`", told)
        self.assertNotIn("flows.orders: no `from`", told)

    def test_what_is_no_estate_at_all(self) -> None:
        contents = {name: content.decode() for name, content in BEGINNING.contents().items()}
        for text, expected in (
            ("", "1:1: an empty file, expected a mapping with `estate`"),
            ("- a\n- b\n", "1:1: a list, expected a mapping of keys"),
            (contents["catalogue.yaml"], "3:1: a catalogue, expected an estate\n  Give the estate that refers to it."),
        ):
            self.assertEqual(self.said(text), expected)


if __name__ == "__main__":
    unittest.main()

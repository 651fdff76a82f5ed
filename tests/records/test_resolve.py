"""Names against prefixes on record, asked of the stand-in server."""

import json
from typing import Any
from unittest.mock import patch

import dns.flags
import dns.message
import dns.rrset

from fenrask.demo import stand_ins
from fenrask.demo.stand_ins import dns_server
from fenrask.records.names import look_up
from fenrask.routing import Sending
from fenrask.what_if.sources import sources_shown
from tests.support import InFolder

ZONE = """\
$ORIGIN example.
$TTL 300
@    IN SOA ns hostmaster 1 3600 600 86400 300
@    IN NS ns
ns   IN A 192.0.2.250
stay IN A 198.51.100.7
move 60 IN CNAME there.sub
there.sub IN A 203.0.113.99
there.sub IN AAAA 2001:db8::99
mail IN MX 10 stay
inner IN A 10.1.2.3
inner IN A 198.51.100.8
local IN A 127.0.0.1
local IN A 0.0.0.0
local IN A 224.0.0.5
local IN AAAA fe80::1
"""


class LookUps(InFolder):
    def test_addresses_aliases_and_times_to_live(self) -> None:
        with dns_server(ZONE) as port:
            stay = look_up("stay.example", "127.0.0.1", port)
            move = look_up("move.example", "127.0.0.1", port)
            none = look_up("none.example", "127.0.0.1", port)
        self.assertEqual((list(map(str, stay.addresses)), stay.ttl_s, stay.fault), (["198.51.100.7"], 300, ""))
        self.assertEqual(list(map(str, move.addresses)), ["203.0.113.99", "2001:db8::99"])
        self.assertEqual((move.aliases, move.ttl_s), (("there.sub.example",), 60))
        self.assertEqual(none.fault, "no such name")
        self.assertIn("no answer", look_up("stay.example", "127.0.0.1", port, within_s=0.3).fault)

    def test_what_else_is_in_an_answer_is_not_the_names(self) -> None:
        """Records of another name in the answer section, before and behind the asked one's."""
        real = stand_ins._answer

        def spoiled(zone: Any, query: dns.message.Message) -> dns.message.Message:
            response = real(zone, query)
            for name in ("bank.example.", "there.example."):
                response.answer.insert(0, dns.rrset.from_text(name, 5, "IN", "A", "192.0.2.66"))
                response.answer.append(dns.rrset.from_text(name, 5, "IN", "A", "192.0.2.67"))
            return response

        with patch.object(stand_ins, "_answer", spoiled), dns_server(ZONE) as port:
            move = look_up("move.example", "127.0.0.1", port)
        self.assertEqual([*map(str, move.addresses)], ["203.0.113.99", "2001:db8::99"])
        self.assertEqual((move.aliases, move.ttl_s), (("there.sub.example",), 60))

    def test_no_address_is_no_answer_and_special_ones_are_told(self) -> None:
        def cut(zone: Any, query: dns.message.Message) -> dns.message.Message:
            response = dns.message.make_response(query)
            response.flags |= dns.flags.TC
            return response

        with dns_server(ZONE) as port:
            mail, inner, local = (look_up(f"{name}.example", "127.0.0.1", port) for name in ("mail", "inner", "local"))
        self.assertEqual((mail.addresses, mail.fault), ((), "no address"))
        self.assertEqual([*map(str, inner.addresses)], ["10.1.2.3", "198.51.100.8"])
        self.assertEqual((inner.special, inner.fault), (("10.1.2.3 (private)",), ""))
        self.assertEqual((local.addresses, local.fault), ((), "no address that a route goes to"))
        kinds = ("unspecified", "loopback", "multicast", "link-local")
        self.assertEqual([one.split("(")[1] for one in local.special], [f"{kind}, not taken)" for kind in kinds])
        with patch.object(stand_ins, "_answer", cut), dns_server(ZONE) as port:
            # Cut short over UDP, and nobody there over TCP.
            self.assertIn("answers", look_up("stay.example", "127.0.0.1", port).fault)


class Program(InFolder):
    def resolved(self, names: list[str], *more: str, status: int | None, recorded: str = "192.0.2.1") -> Any:
        self.estate({"destinations": {"partner": {"names": names, "prefixes": ["198.51.100.0/24", recorded]}}})
        with dns_server(ZONE) as port:
            found = self.json("resolve", "--server", f"127.0.0.1#{port}", *more, status=status)
        return found["drift"][0]

    def test_added_gone_unchanged_and_the_patch_that_mends_it(self) -> None:
        drift = self.resolved(["stay.example", "move.example"], "--save", "patch.json", status=1)
        self.assertEqual(drift["added"], ["203.0.113.99", "2001:db8::99"])
        self.assertEqual((drift["gone"], drift["unchanged"]), (["192.0.2.1/32"], ["198.51.100.0/24"]))
        patch = json.loads((self.folder / "patch.json").read_text())
        self.assertEqual(
            patch["destinations"]["partner"]["prefixes"], ["198.51.100.0/24", "203.0.113.99/32", "2001:db8::99/128"]
        )
        with dns_server(ZONE) as port:
            again = self.program("resolve", "--patch", "patch.json", "--server", f"127.0.0.1#{port}")
        self.assertEqual(again.returncode, 0, again.stdout)

    def test_one_of_two_addresses_that_were_put_together_has_gone(self) -> None:
        drift = self.resolved(["stay.example", "move.example"], status=1, recorded="203.0.113.98/31")
        self.assertEqual(drift["added"], ["2001:db8::99"])
        self.assertEqual(
            (drift["gone"], drift["unchanged"]), (["203.0.113.98/32"], ["198.51.100.0/24", "203.0.113.99/32"])
        )

    def test_nothing_is_called_gone_where_a_name_gave_no_answer(self) -> None:
        for name in ("none", "mail", "local"):
            with self.subTest(name):
                drift = self.resolved(["stay.example", f"{name}.example"], status=None)
                self.assertEqual(drift["gone"], [])

    def test_a_server_has_to_be_named(self) -> None:
        self.estate()
        for arguments in (("resolve",), ("resolve", "--server", "ns.example")):
            self.assertEqual(self.program(*arguments).returncode, 2)


class Sources(InFolder):
    def test_now_and_after_each_loss(self) -> None:
        two = ["app", "app-a"]
        endpoint = {"kind": "in-subnet-endpoint", "offer": "inner", "subnets": two, "destination": "store"}
        described = self.estate(
            {
                "subnets": {
                    "app": {"zone": "b"},
                    "app-a": {"network": "net", "zone": "a", "prefix": "10.0.3.0/24", "routes": "private"},
                },
                "exits": {"in": endpoint},
            }
        )
        found = {one.case: (one.outcome, one.cut_off) for one in sources_shown(described, Sending("app", "store"))}
        private, gate = ("arrives", "host's private address"), ("arrives", "203.0.113.1")
        self.assertEqual(
            found,
            {
                "now": ((private,), False),
                "zone b lost": ((private,), True),
                "zone a lost": ((private,), False),
                "gate lost": ((private,), False),
                "in lost": ((gate,), False),
            },
        )
        lost = {one.case: one.outcome[0][0] for one in sources_shown(described, Sending("app", "partner"))}
        self.assertEqual(lost["zone a lost"], "black hole")
        self.assertEqual(lost["door lost"], "black hole")

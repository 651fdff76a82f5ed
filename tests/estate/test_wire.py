"""Packets and bytes on the wire against exchanges that were written down packet by packet."""

import unittest

from fenrask.estate.wire import OnWire
from tests.support import InFolder

# SYN, SYN and ACK, ACK; request, ACK; answer, ACK; FIN, FIN and ACK, ACK: headers of 20 and of 20 + 12 for timestamps.
SMALLEST = [(0, 52)] * 3 + [(1, 52), (0, 52), (1, 52), (0, 52)] + [(0, 52)] * 3


class Wire(InFolder):
    def of(self, flow: dict[str, object], protocol: str = "tcp", **estate: object) -> OnWire:
        changes = {"flows": {"talk": flow}, "destinations": {"partner": {"protocol": protocol}}, **estate}
        return self.estate(changes).traffic.on_wire

    def test_a_small_exchange_takes_ten_packets(self) -> None:
        kib = {"out_kib_per_connection": 1 / 1024, "in_kib_per_connection": 1 / 1024}
        found = self.of(kib)
        # Ten hosts, one a second each.
        self.assertAlmostEqual(found.packets_per_s[0], 10 * len(SMALLEST))
        self.assertAlmostEqual(found.bytes_per_s[0], 10 * sum(payload + header for payload, header in SMALLEST))

    def test_segments_and_acknowledgements(self) -> None:
        # 100 KiB back: 71 segments of 1,448 bytes, an acknowledgement for every second of them; one segment out.
        found = self.of({"out_kib_per_connection": 1, "in_kib_per_connection": 100})
        packets = 6 + (1 + 1) + (71 + 36)
        self.assertAlmostEqual(found.packets_per_s[0], 10 * packets)
        self.assertAlmostEqual(found.bytes_per_s[0], 10 * (101 * 1024 + packets * 52))
        # The wire carries half as much again where transfers are small.
        small = self.of({"out_kib_per_connection": 0.5, "in_kib_per_connection": 0.5})
        self.assertGreater(small.bytes_per_s[0] / (10 * 1024), 1.45)

    def test_datagrams_standing_pools_and_what_is_stated(self) -> None:
        datagrams = self.of({"out_kib_per_connection": 0.1, "in_kib_per_connection": 3}, "udp")
        self.assertAlmostEqual(datagrams.packets_per_s[0], 10 * (1 + 3))
        self.assertAlmostEqual(datagrams.bytes_per_s[0], 10 * (3.1 * 1024 + 4 * 28))
        pool = {"per_host_per_s": None, "duration_s": None, "persistent_per_host": 3, "out_gib_per_month": 10}
        found = self.of(pool)
        self.assertAlmostEqual(found.packets_per_s[0] / (10 * 2**30 / (730 * 3600) / 1448 * 1.5), 1.0, places=9)
        stated = self.of({"out_kib_per_connection": 1, "packet_bytes": 512})
        self.assertEqual((stated.packets_per_s[0], stated.bytes_per_s[0]), (20.0, 10_240.0))

    def test_volumes_of_the_wire_are_taken_as_they_are(self) -> None:
        flow = {"out_kib_per_connection": 1, "in_kib_per_connection": 100}
        self.assertEqual(self.of(flow, volumes="wire").bytes_per_s[0], 10 * 101 * 1024)
        limits = {"offers": {"gate": {"limits": {"packets_per_s": 1000, "gbit_per_s": 1}}}}
        self.estate({"flows": {"talk": flow}}, limits)
        rows = {row["limit"]: row["use"] for row in self.json("capacity", status=1)["limits"]}
        self.assertAlmostEqual(rows["packets/s"], 1150.0)
        self.assertAlmostEqual(rows["throughput, Gbit/s"], 10 * (101 * 1024 + 115 * 52) * 8 / 1e9)

    def test_a_bill_that_counts_the_wire(self) -> None:
        """Half a KiB each way in ten packets of 52 bytes of headers: half as much again."""
        flow = {"out_kib_per_connection": 0.5, "in_kib_per_connection": 0.5}
        connections, billed = 10 * 730 * 3600, {}
        for meters in ("payload", "wire"):
            self.estate({"flows": {"talk": flow}}, {"meters": meters})
            lines = self.json("charges")["lines"]
            billed[meters] = {(one["item"], one["about"]): one["quantity"] for one in lines}
        both, out = connections / 1e9, connections / 1e9
        self.assertAlmostEqual(billed["payload"]["processed", "gate"], 1024 * both, places=3)
        self.assertAlmostEqual(billed["wire"]["processed", "gate"], (1024 + 520) * both, places=3)
        # SYN, ACK, request, ACK, FIN, ACK go out.
        sent = [quantity for (item, _), quantity in billed["wire"].items() if item == "internet out"]
        self.assertAlmostEqual(sum(sent), (512 + 6 * 52) * out, places=3)


if __name__ == "__main__":
    unittest.main()

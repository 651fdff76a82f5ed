"""Longest-prefix match against the kernel's own answer, in a network namespace of its own."""

import random
import shutil
import subprocess
import unittest
from ipaddress import IPv4Address, IPv4Network

from fenrask.prefixes import PrefixTable

NAMESPACE = "fenrask-routes"


def ip(*arguments: str, text: str | None = None) -> subprocess.CompletedProcess[str]:
    return subprocess.run(["ip", *arguments], input=text, capture_output=True, text=True, check=False)


class Kernel(unittest.TestCase):
    def setUp(self) -> None:
        if not shutil.which("ip"):
            self.skipTest("no `ip` program on this machine")
        ip("netns", "del", NAMESPACE)
        made = ip("netns", "add", NAMESPACE)
        self.addCleanup(ip, "netns", "del", NAMESPACE)
        if made.returncode or ip("-n", NAMESPACE, "link", "add", "v0", "type", "veth", "peer", "name", "w0").returncode:
            self.skipTest(f"no network namespace to be had here: {made.stderr.strip() or 'no veth'}")
        for words in ("addr add 169.254.0.1/16 dev v0", "link set v0 up", "link set w0 up"):
            ip("-n", NAMESPACE, *words.split())

    def test_the_kernel_takes_the_same_route(self) -> None:
        dice = random.Random(42)
        nets: dict[IPv4Network, str] = {}
        while len(nets) < 200:
            length = dice.randint(4, 32)
            net = IPv4Network((0x0A000000 | dice.getrandbits(18) << 6, length), strict=False)
            nets[net] = f"169.254.{1 + len(nets) // 200}.{1 + len(nets) % 200}"
        lines = "".join(f"route add {net} via {hop} dev v0 onlink\n" for net, hop in nets.items())
        added = ip("-n", NAMESPACE, "-batch", "-", text=lines)
        self.assertEqual(added.returncode, 0, added.stderr)
        addresses = [
            IPv4Address(int(dice.choice([*nets]).network_address) ^ dice.getrandbits(dice.choice([2, 8, 20])))
            for _ in range(1000)
        ]
        table = PrefixTable(nets.items())
        held = [address for address in addresses if table.match(address)]
        got = ip("-n", NAMESPACE, "-batch", "-", text="".join(f"route get {address}\n" for address in held))
        answers = [line.split() for line in got.stdout.splitlines() if " via " in line]
        self.assertGreater(len(held), 500)
        self.assertEqual(len(answers), len(held), got.stderr)
        for address, words in zip(held, answers, strict=True):
            found = table.match(address)
            self.assertEqual((words[0], words[2]), (str(address), found[1] if found else ""))

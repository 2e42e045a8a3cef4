"""How much code and memory the updater takes, without cryptography and port; fails above the limits."""

import re
import subprocess
import sys
from pathlib import Path

CODE, MEMORY = 40 * 1024, 12 * 1024


def deepest(calls, own, name, on_the_way=()):
    """Bytes of stack from a function downwards; a function that calls itself has no bound."""
    if name in on_the_way:
        sys.exit(f"{name} calls itself, so that its stack has no bound")
    below = [deepest(calls, own, one, (*on_the_way, name)) for one in calls.get(name, ())]
    return own.get(name, 0) + max(below, default=0)


def main(build):
    """Reads what the compiler left beside the object file."""
    graph = Path(f"{build}.ci").read_text()
    own = {name: int(size) for name, size in re.findall(r'node: \{ title: "([^"]+)" label: "[^"]*?(\d+) bytes', graph)}
    calls = {}
    for source, target in re.findall(r'edge: \{ sourcename: "([^"]+)" targetname: "([^"]+)"', graph):
        calls.setdefault(source, set()).add(target)
    stack = max(deepest(calls, own, name) for name in own)
    line = subprocess.run(["size", f"{build}.o"], check=True, capture_output=True, text=True).stdout.splitlines()[1]
    code, data, zeroed = (int(number) for number in line.split()[:3])
    memory = data + zeroed + stack
    print(f"code   {code:6} of {CODE} bytes")
    print(f"memory {memory:6} of {MEMORY} bytes: {data + zeroed} fixed, {stack} of stack at its deepest")
    if code > CODE or memory > MEMORY:
        sys.exit("the updater is too large")


main(sys.argv[1])

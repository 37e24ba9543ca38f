"""A system that defines networks, simulated: its topology over RESTCONF (RFC 8040), at a loopback port.

`GET /restconf/data/ietf-network:networks` answers it (RFC 8345 with RFC 8944, RFC 7951 JSON); `POST` there defines one more, `DELETE
…/network=ID` takes one away.  It can be told to be slow, to break off, to lie about VIDs, or to answer garbage.
"""

from __future__ import annotations

import argparse
import json
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import unquote

USUAL_PORT = 8138
NETWORKS = "/restconf/data/ietf-network:networks"
YANG_JSON = "application/yang-data+json"
POINT = "ietf-l2-topology:l2-termination-point-attributes"
WAYS = ("slow", "broken", "lying", "garbage")
"""How it may misbehave: it answers a byte a second; half of it; with each VID one too high; or what is no JSON."""
MOST = 16_000_000
"""Bytes that it takes of a network to be defined."""


class System(ThreadingHTTPServer):
    """The simulated system: `networks` as the JSON has them, `misbehaves` one of WAYS or empty."""

    daemon_threads = True

    def __init__(self, networks: list[dict[str, Any]], port: int, misbehaves: str = "") -> None:
        self.networks = networks
        self.misbehaves = misbehaves
        self.lock = threading.Lock()
        super().__init__(("127.0.0.1", port), _Answer)

    @property
    def address(self) -> str:
        """Where its topology is fetched."""
        return f"http://127.0.0.1:{self.server_port}{NETWORKS}"

    def document(self) -> bytes:
        """What it answers, if it behaves or lies."""
        with self.lock:
            networks = json.loads(json.dumps(self.networks))
        if self.misbehaves == "lying":
            for network in networks:
                for node in network.get("node", []):
                    for point in node.get("ietf-network-topology:termination-point", []):
                        if "outer-tag" in point.get(POINT, {}):
                            point[POINT]["outer-tag"] = str(int(point[POINT]["outer-tag"]) % 4094 + 1)
        return json.dumps({"ietf-network:networks": {"network": networks}}, indent=1).encode()


class _Answer(BaseHTTPRequestHandler):
    server: System

    def do_GET(self) -> None:
        """The topology, as well as it is meant to."""
        if self.path != NETWORKS:
            self._refuse(404, "invalid-value", "there is nothing but ietf-network:networks here")
            return
        made = self.server.document()
        how = self.server.misbehaves
        if how == "garbage":
            made = b"<html>no topology" + made[:40]
        self._head(200, len(made))
        if how == "slow":
            with suppress(OSError):
                for n in range(len(made)):
                    self.wfile.write(made[n : n + 1])
                    self.wfile.flush()
                    time.sleep(1)
            return
        self.wfile.write(made[: len(made) // 2] if how == "broken" else made)

    def do_DELETE(self) -> None:
        """A network is defined no longer (RFC 8040 section 4.7)."""
        id = unquote(self.path.removeprefix(f"{NETWORKS}/network="))
        with self.server.lock:
            left = [one for one in self.server.networks if one["network-id"] != id]
            known = len(left) < len(self.server.networks)
            self.server.networks = left
        if known and self.path.startswith(f"{NETWORKS}/network="):
            self._head(204, 0)
        else:
            self._refuse(404, "invalid-value", f"there is no network {id}")

    def do_POST(self) -> None:
        """One more network (RFC 8040 section 4.4.1): an object with `ietf-network:network`, a list of one."""
        length = self.headers.get("Content-Length", "")
        if self.path != NETWORKS or not length.isdecimal() or int(length) > MOST:
            self._refuse(400, "invalid-value", f"networks are defined at {NETWORKS}, with a length of up to {MOST}")
            return
        try:
            (network,) = json.loads(self.rfile.read(int(length)))["ietf-network:network"]
            id = str(network["network-id"])
        except (ValueError, KeyError, TypeError):
            self._refuse(400, "malformed-message", "an object with ietf-network:network, a list of one, is needed")
            return
        with self.server.lock:
            if any(one["network-id"] == id for one in self.server.networks):
                self._refuse(409, "data-exists", f"network {id} is defined already")
                return
            self.server.networks = [*self.server.networks, network]
        self._head(201, 0)

    def _head(self, status: int, length: int) -> None:
        self.send_response(status)
        self.send_header("Content-Type", YANG_JSON)
        self.send_header("Content-Length", str(length))
        self.end_headers()

    def _refuse(self, status: int, tag: str, message: str) -> None:
        """An error as RFC 8040 section 7.1 has it."""
        error = {"error-type": "application", "error-tag": tag, "error-message": message}
        made = json.dumps({"ietf-restconf:errors": {"error": [error]}}).encode()
        self._head(status, len(made))
        self.wfile.write(made)

    def log_message(self, *_: Any) -> None:
        """Nothing: what it answers is seen by who asks."""


def read_networks(path: Path) -> list[dict[str, Any]]:
    """The networks of a document."""
    found: list[dict[str, Any]] = json.loads(path.read_text())["ietf-network:networks"]["network"]
    return found


@contextmanager
def system(networks: list[dict[str, Any]], port: int, misbehaves: str = "") -> Iterator[System]:
    """One that runs beside whoever asks for it."""
    with System(networks, port, misbehaves) as made:
        thread = threading.Thread(target=made.serve_forever, args=(0.05,), daemon=True)
        thread.start()
        try:
            yield made
        finally:
            made.shutdown()
            thread.join()


def main() -> int:
    """`./run standin topology`."""
    parser = argparse.ArgumentParser(prog="./run standin topology", description=__doc__)
    parser.add_argument("file", nargs="?", type=Path, default=Path(__file__).parent.parent / "demo" / "networks.json")
    parser.add_argument("--port", type=int, default=USUAL_PORT)
    parser.add_argument("--misbehaves", choices=WAYS, default="")
    said = parser.parse_args()
    try:
        networks = read_networks(said.file)
        with System(networks, said.port, said.misbehaves) as made:
            print(f"{len(networks)} networks at {made.address}; Ctrl-C stops it", flush=True)
            made.serve_forever()
    except (OSError, ValueError, KeyError, TypeError) as error:
        print(f"error: {said.file}: {error}", file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        pass
    return 0


if __name__ == "__main__":
    sys.exit(main())

"""The state of real hosts and switches as files: one folder for each device, LLDP captures beside it.

This module sorts and reads the files; what was observed becomes a plan in `building.py`, and the report tells which part is read,
which is proposed (intent, which no file says), and what was left out.
"""

from __future__ import annotations

import posixpath
from collections.abc import Mapping
from dataclasses import replace

from aptwire.formats import lldp, pcap
from aptwire.formats.building import build_plan
from aptwire.formats.linux import LINK, is_state, read_device
from aptwire.formats.making import Report
from aptwire.formats.observed import Device
from aptwire.plan.checks import check_plan, check_values
from aptwire.plan.plan import Plan, PlanError, Problem

CAPTURE = ".lldp.pcap"


def read_hosts(files: Mapping[str, bytes], name: str) -> tuple[Plan, Report]:
    """A plan named `name` from files by relative path (device/file), and the report.

    Raises PlanError naming file and place when a file can't be used; then nothing is read at all.
    """
    report = Report()
    devices, captures = _sort_files(files, report)
    if not devices:
        raise PlanError([Problem(f"no folder with an {LINK} is among the files", place=name)])
    problems: list[Problem] = []
    read: dict[str, Device] = {}
    heard: dict[tuple[str, str], list[lldp.Neighbour]] = {}
    for device, own in sorted(devices.items()):
        try:
            read[device] = read_device(device, own)
        except PlanError as error:
            problems.extend(error.problems)
    for (device, port), raw in sorted(captures.items()):
        try:
            heard[device, port] = _newest(raw, f"{device}/{port}{CAPTURE}", report)
        except PlanError as error:
            problems.extend(error.problems)
    if problems:
        raise PlanError(problems)
    plan = build_plan(name, read, heard, report)
    broken = check_values(plan) or check_plan(plan)
    if broken:
        raise PlanError(replace(p, place=name) for p in broken)
    if any(device.interfaces for device in read.values()):
        report.add("read", name, "what tc and nftables do to frames wasn’t given, and is taken as nothing")
    return plan, report


def _sort_files(
    files: Mapping[str, bytes], report: Report
) -> tuple[dict[str, dict[str, bytes]], dict[tuple[str, str], bytes]]:
    devices: dict[str, dict[str, bytes]] = {}
    captures: dict[tuple[str, str], bytes] = {}
    for path, raw in sorted(files.items()):
        folder, base = posixpath.split(posixpath.normpath(path.replace("\\", "/")))
        device = posixpath.basename(folder)
        if device and is_state(base):
            if base in devices.setdefault(device, {}):
                raise PlanError([Problem(f"a second {base} for the device {device}", place=path)])
            devices[device][base] = raw
        elif device and base.endswith(CAPTURE):
            captures[device, base[: -len(CAPTURE)]] = raw
        else:
            report.add("left out", path, "this is neither a device's state nor an LLDP capture")
    for device, port in sorted(captures):
        if device not in devices:
            raise PlanError([Problem(f"there is no {LINK} beside this capture", place=f"{device}/{port}{CAPTURE}")])
    return devices, captures


def _newest(raw: bytes, place: str, report: Report) -> list[lldp.Neighbour]:
    """The newest word of each neighbour heard at a port (a later frame replaces an earlier one, 802.1AB clause 9.2.7.7)."""
    newest: dict[tuple[str, str], lldp.Neighbour] = {}
    for number, (_, frame) in enumerate(sorted(pcap.frames(raw, place), key=lambda f: f[0]), 1):
        neighbour = lldp.read_frame(frame, f"{place}: frame {number}")
        if neighbour is None:
            continue
        key = (neighbour.chassis, neighbour.port)
        if neighbour.ttl == 0:
            newest.pop(key, None)
            continue
        before = newest.get(key)
        if before is not None and before.vlans is not None and neighbour.vlans is None:
            report.add("differs", place, f"frame {number} names no VLANs any more; those of the frame before are kept")
            neighbour.vlans = before.vlans
            neighbour.pvid = before.pvid if neighbour.pvid is None else neighbour.pvid
        newest[key] = neighbour
    return list(newest.values())

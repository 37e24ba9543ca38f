"""Why an adapter, or its guest, doesn’t fare on another host as it should; and how grave that is.

Faults are bits, so that whole fleets of them fit in an array."""

from __future__ import annotations

import numpy as np

GROUP, NAMED, TAG, CUT, SOME, OPEN, LARGE, GUARD, LIMIT, FUNCTION, MEETS, LEASE, STORAGE, APART, UNASKED, MIRROR = (
    1 << n for n in range(16)
)
"""Faults, as bits: why an adapter, or its guest, doesn't fare on a host as it should.  No port group there is like its own (GROUP), or one of another name (NAMED); its
frames land on another segment (TAG), get to where it is at home over no way (CUT), over some (SOME), or nobody said what is behind a way (OPEN); packets as large as
it sends don't get through (LARGE); it may do less there (GUARD), is limited otherwise (LIMIT), finds no virtual function left (FUNCTION), meets whom it must not
(MEETS), gets no lease or a wrong one (LEASE); the host doesn't reach storage that its own host has (STORAGE), no migration network leads there (APART); its mirror would
end (MIRROR); or it wasn't asked (UNASKED)."""

RUNS, COLD, LESS, UNKNOWN, ASK, NOT = "rclu?x"
"""How a guest would fare on a host: it runs there and goes while running (RUNS), or switched off alone (COLD); it runs there with something less, or otherwise (LESS);
nobody knows (UNKNOWN), or it wasn't asked (ASK); it doesn't (NOT)."""
FARES = {
    RUNS: "runs there",
    COLD: "switched off alone",
    LESS: "with something less",
    UNKNOWN: "unproven",
    ASK: "not asked",
    NOT: "not there",
}

GRAVE = GROUP | TAG | CUT | LARGE | FUNCTION | MEETS | LEASE | STORAGE
_RANKED = ((GRAVE, NOT), (UNASKED, ASK), (OPEN, UNKNOWN), (NAMED | SOME | GUARD | LIMIT | MIRROR, LESS), (APART, COLD))

LETTERS = np.full(1 << 16, ord(RUNS), dtype=np.uint8)
"""uint8[faults]: the letter of each set of them."""
for _bits, _letter in reversed(_RANKED):
    LETTERS[(np.arange(LETTERS.size) & _bits) != 0] = ord(_letter)

"""Max-min fairness: what each gets of what several share (Bertsekas and Gallager, Data Networks, section 6.5.2).

Nobody could get more but from somebody who gets no more than he does.  Everybody's share rises alike until he has what he asks for, or something that he uses is full.
"""

from __future__ import annotations

import numpy as np

CLOSE = 1e-9
"""What counts as the same level, relative to it."""


def shares(rates: np.ndarray, who: np.ndarray, what: np.ndarray, weight: np.ndarray, sizes: np.ndarray) -> np.ndarray:
    """float64[demands]: what each gets.

    `rates` float64[demands] what each asks for; entries (who, what, weight), each pair at most once: how much of something is used for each unit that one gets;
    `sizes` float64[things] how much there is of each.
    """
    got = rates.astype(np.float64).copy()
    used = np.bincount(what, weights=weight * got[who], minlength=sizes.size)
    # What isn't asked for beyond its size is never full.
    tight = used > sizes * (1 + CLOSE)
    kept = tight[what] & (weight > 0)
    who, what, weight = who[kept], what[kept], weight[kept]
    open_ = np.zeros(rates.size, dtype=bool)
    open_[who] = True
    left = sizes.astype(np.float64).copy()
    while who.size:
        level = levels(rates, who, what, weight, left)
        # A thing is settled where nobody who uses it is held lower elsewhere; all those at once.
        own = np.full(rates.size, np.inf)
        np.minimum.at(own, who, level[what])
        held = own[who] < level[what] * (1 - CLOSE)
        waits = np.zeros(sizes.size, dtype=bool)
        waits[what[held]] = True
        ready = ~waits[what]
        settled = np.unique(who[ready])
        got[settled] = np.minimum(rates[settled], own[settled])
        open_[settled] = False
        done = ~open_[who]
        left -= np.bincount(what[done], weights=weight[done] * got[who[done]], minlength=sizes.size)
        left = np.maximum(left, 0.0)
        who, what, weight = who[~done], what[~done], weight[~done]
    return got


def levels(rates: np.ndarray, who: np.ndarray, what: np.ndarray, weight: np.ndarray, left: np.ndarray) -> np.ndarray:
    """float64[things]: up to which rate all who use a thing may rise before it is full, inf where it never is; arguments as in `shares`, `left` what is left of each."""
    order = np.lexsort((rates[who], what))
    what, weight, asked = what[order], weight[order], rates[who[order]]
    first = np.flatnonzero(np.r_[True, what[1:] != what[:-1]]) if what.size else np.zeros(0, dtype=np.int64)
    group = np.cumsum(np.r_[False, what[1:] != what[:-1]]) if what.size else first
    filled = np.cumsum(weight * asked)
    filled_before = filled - weight * asked
    filled_before = filled_before - filled_before[first][group]
    behind = np.cumsum(weight)
    weight_before = behind - weight
    total = np.bincount(group, weights=weight, minlength=first.size)
    rest = total[group] - (weight_before - weight_before[first][group])
    # Were all from here on to have what this one asks for: is it more than there is?
    over = filled_before + asked * rest > left[what] * (1 + CLOSE)
    # The first of whom it is says how far all of them may rise.
    at = np.flatnonzero(over)
    at = at[np.r_[True, group[at][1:] != group[at][:-1]]] if at.size else at
    found = np.full(left.size, np.inf)
    found[what[at]] = np.maximum((left[what[at]] - filled_before[at]) / rest[at], 0.0)
    return found

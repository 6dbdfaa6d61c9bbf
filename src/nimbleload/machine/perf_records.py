"""The kernel's records, read by compiled loops. Imported by whoever calls them, and only then."""

from __future__ import annotations

import numpy as np
from numba import njit

from ..core.watching.records import GIVES_WAY, HOST, NOBODY, SLEEPS

LOST, SAMPLE, SWITCH = 2, 9, 14
SWITCHED_OUT, PREEMPTED = 1 << 13, 1 << 14


@njit(nogil=True, cache=True)
def counted(words, faults):
    """How many switches, samples and touches of memory that was not there there are."""
    switches = samples = touches = at = 0
    while at < len(words):
        kind = words[at] & np.uint64(0xFFFFFFFF)
        switches += kind == SWITCH
        if kind == SAMPLE:
            is_fault = words[at + 1] == faults[0] or words[at + 1] == faults[1]
            touches += is_fault
            samples += not is_fault
        at += max(np.int64(words[at] >> np.uint64(48)) // 8, 1)
    return switches, samples, touches


@njit(nogil=True, cache=True)
def read(
    words, begin, end, owner, whole, faults, new_every, switch_time, switch_kind, switch_cpu, sample_time, sample_owner,
    sample_address, sample_place, fault_time, fault_pages, fault_owner,
):  # fmt: skip
    """Fills the arrays; returns how many records were lost. Words behind the header as in the manual's order."""
    switches = samples = touches = lost = at = 0
    while at < len(words):
        header = words[at]
        kind, flags, size = header & np.uint64(0xFFFFFFFF), np.int64(header >> np.uint64(32)), header >> np.uint64(48)
        if kind == SWITCH:
            switch_time[switches] = words[at + 2]
            switch_cpu[switches] = words[at + 3] & np.uint64(0xFFFFFFFF)
            if flags & SWITCHED_OUT:
                switch_kind[switches] = GIVES_WAY if flags & PREEMPTED else SLEEPS
            switches += 1
        elif kind == SAMPLE:
            place = at + 6 + (words[at + 6] != 0)
            copied = np.int64(words[place + 1]) // 8
            valid = min(np.int64(words[place + 2 + copied]) // 8, copied) if copied else 0
            stack = words[place + 2 : place + 2 + valid]
            found, decided = attributed(words[at + 2], stack, begin, end, owner, whole)
            if words[at + 1] == faults[0] or words[at + 1] == faults[1]:
                fault_time[touches] = words[at + 4]
                fault_pages[touches] = 0 if words[at + 1] == faults[0] else new_every
                fault_owner[touches] = found
                touches += 1
            else:
                sample_time[samples] = words[at + 4]
                sample_owner[samples] = found
                sample_address[samples] = words[at + 2]
                sample_place[samples] = decided
                samples += 1
        elif kind == LOST:
            lost += words[at + 2]
        at += max(np.int64(size) // 8, 1)
    return lost


@njit(nogil=True, cache=True)
def attributed(address, stack, begin, end, owner, whole):
    """To whom an address belongs with the words of the stack behind it, and which of these addresses tells.

    A library computes for whoever called it: the first of the callers' addresses on the stack that is one of a plugin,
    or of the host, names it. So does what the plugins of one file share, up to the host.
    """
    found, decided = owner_of(address, begin, end, owner), address
    if is_for_others(found, whole):
        for word in stack:
            caller = owner_of(word, begin, end, owner)
            if found < HOST:
                if caller >= HOST:
                    found, decided = caller, word
            elif caller == HOST:
                break
            elif caller > HOST and whole[caller] == found:
                found = caller
            if not is_for_others(found, whole):
                break
    return found, decided


@njit(nogil=True, cache=True)
def attributed_all(addresses, stacks, lengths, begin, end, owner, whole):
    """To whom each address belongs with the words of the stack behind it (a row for each, so many of which count)."""
    found = np.zeros(len(addresses), np.int64)
    for k in range(len(addresses)):
        found[k], _ = attributed(addresses[k], stacks[k, : lengths[k]], begin, end, owner, whole)
    return found


@njit(nogil=True, cache=True)
def is_for_others(owner, whole):
    """Whether code computes for whoever called it: that of a library, or what the plugins of one file share."""
    return owner < HOST or (owner > HOST and whole[owner] == owner)


@njit(nogil=True, cache=True)
def owner_of(address, begin, end, owner):
    """To whom an address belongs (binary search)."""
    low, high = 0, len(begin)
    while low < high:
        middle = (low + high) // 2
        if begin[middle] <= address:
            low = middle + 1
        else:
            high = middle
    return owner[low - 1] if low > 0 and address < end[low - 1] else NOBODY

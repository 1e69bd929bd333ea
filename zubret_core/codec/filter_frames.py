"""The compiled loops of two-tap ADPCM: frames to samples and back, and what filters leave over.

`shape` is what `FilterAdpcm._shape` gives: word, grows, big, plus, ends, bytes of a header, low half first, filters, bits of a unit,
rounding, each as a whole number.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from .base import clamped

MOST_SHIFT, MOST_GROWTH = 12, 15
FINEST = 15
"""Bits of the finest unit of weights; decoding takes all of them in it, so that the processor need not be told by how many to shift."""
FINE, BAD, ENDED = range(3)
"""How a frame's header is."""


@njit(cache=True, forceinline=True)
def _predicted(one, two, last, before, bits, rounding):
    """What a filter predicts; rounding: 0 towards 0, 1 to the nearest, 2 downwards."""
    total = last * one + before * two
    if rounding == 0:
        total += total >> 63 & (1 << bits) - 1
    elif rounding == 1:
        total += 1 << bits >> 1
    return total >> bits


@njit(cache=True, forceinline=True)
def _head(data, at, shape):
    """(filter, step, how it is) of a frame's header. shape: see `FilterAdpcm._shape`."""
    word, grows, big, plus, ends, filters = shape[0], shape[1], shape[2], shape[3], shape[4], shape[7]
    if word >= 2:
        first, second = np.int64(data[at]), np.int64(data[at + 1])
        number = first << 8 | second if big else second << 8 | first
        if ends and number & 0x8000:
            return 0, 0, ENDED
        if word == 3:
            return number >> 13, (number & 0x1FFF) + plus, FINE if number >> 13 < filters else BAD
        return 0, number + plus, FINE
    byte = np.int64(data[at])
    number, shift = (byte >> 4, byte & 15) if word == 0 else (byte & 15, byte >> 4)
    if number >= filters or shift > (15 if grows else 12):
        return number, 0, BAD
    return number, 1 << shift if grows else 4096 >> shift, FINE


@njit(cache=True, forceinline=True)
def _next(moved, one, two, last, before, rounding, clipped):
    """The next sample; moved: what the code adds; it and the weights are in 1 / 2^FINEST. clipped counts what was cut at full scale:
    since that can't be undone, the processor guesses that there is nothing to cut and goes on to the next sample, instead of waiting
    for the outcome each time."""
    if rounding == 0:
        total = last * one + before * two
        total = (total + moved) + (total >> 63 & (1 << FINEST) - 1)
    else:
        total = last * one + (before * two + moved)  # what is known first is added up first
    sample = total >> FINEST
    if np.uint64(sample + 32768) > np.uint64(65535):
        clipped[0] += 1
        return np.int64(-32768) if sample < 0 else np.int64(32767)
    return sample


@njit(cache=True, forceinline=True)
def _pair(data, at_a, at_b, size, low_first, steps, weights, state, rounding, clipped, out):
    """Samples of a frame of two channels, to `out` in turn; weights, in 1 / 2^FINEST, and state: of both. Places have no sign, which
    spares a test for negative ones at every byte."""
    one_a, two_a, one_b, two_b = weights
    last_a, before_a, last_b, before_b = state
    step_a, step_b = steps[0] << FINEST, steps[1] << FINEST
    half = 1 << FINEST >> 1 if rounding == 1 else 0
    first, second = (60, 56) if low_first else (56, 60)
    place, one = np.uint64(0), np.uint64(1)
    from_a, from_b = np.uint64(at_a), np.uint64(at_b)
    for _ in range(size):
        a, b = np.int64(data[from_a]), np.int64(data[from_b])
        from_a += one
        from_b += one
        moved_a, moved_b = (a << first >> 60) * step_a + half, (b << first >> 60) * step_b + half
        before_a = _next(moved_a, one_a, two_a, last_a, before_a, rounding, clipped)
        before_b = _next(moved_b, one_b, two_b, last_b, before_b, rounding, clipped)
        out[place] = before_a
        out[place + one] = before_b
        moved_a, moved_b = (a << second >> 60) * step_a + half, (b << second >> 60) * step_b + half
        last_a = _next(moved_a, one_a, two_a, before_a, last_a, rounding, clipped)
        last_b = _next(moved_b, one_b, two_b, before_b, last_b, rounding, clipped)
        out[place + np.uint64(2)] = last_a
        out[place + np.uint64(3)] = last_b
        place += np.uint64(4)
    return last_a, before_a, last_b, before_b


@njit(cache=True)
def decode_frames(data, a, b, shape, filters, state, out):
    """Decode two channels side by side; the number of a bad frame (2 * frame, + 1 in the second), or -1.

    a, b: where their frames begin in data; filters: (2, count, 2) of both; state: (2, 2) the channels' last sample and the one
    before; out: samples of both in turn. The processor works on one channel while it waits for the other's last sample, so
    one alone costs nearly as much: give it twice.
    """
    header, low_first, rounding = shape[5], shape[6] != 0, shape[9]
    filters = filters << FINEST - shape[8]
    past = state[0, 0], state[0, 1], state[1, 0], state[1, 1]
    size = len(out) // len(a) // 4
    clipped = np.zeros(1, np.int64)
    for f in range(len(a)):
        filter_a, step_a, how_a = _head(data, a[f], shape)
        filter_b, step_b, how_b = _head(data, b[f], shape)
        if how_a == BAD:
            return 2 * f
        if how_b == BAD:
            return 2 * f + 1
        weights = filters[0, filter_a, 0], filters[0, filter_a, 1], filters[1, filter_b, 0], filters[1, filter_b, 1]
        rows, steps = out[f * size * 4 : (f + 1) * size * 4], (step_a, step_b)
        at_a, at_b = a[f] + header, b[f] + header
        if how_a == ENDED or how_b == ENDED:
            rows[:] = 0
            continue
        # Loops of their own, so that none asks for each sample.
        if rounding == 0:
            past = _pair(data, at_a, at_b, size, low_first, steps, weights, past, 0, clipped, rows)
        elif rounding == 1:
            past = _pair(data, at_a, at_b, size, low_first, steps, weights, past, 1, clipped, rows)
        else:
            past = _pair(data, at_a, at_b, size, low_first, steps, weights, past, 2, clipped, rows)
    state[0, 0], state[0, 1], state[1, 0], state[1, 1] = past
    return -1


@njit(cache=True, forceinline=True)
def _nibble(difference, step):
    """The nibble whose value is nearest."""
    return clamped((2 * difference + step) // (2 * step), -8, 7)


@njit(cache=True)
def _error(wanted, one, two, step, last, before, bits, rounding, best):
    """Squared error of a frame with a filter and a step; more than `best` where it is no better."""
    total = np.int64(0)
    for value in wanted:
        guess = _predicted(one, two, last, before, bits, rounding)
        sample = clamped(guess + _nibble(value - guess, step) * step, -32768, 32767)
        before, last = last, sample
        total += (value - sample) * (value - sample)
        if 0 <= best < total:
            return total
    return total


@njit(cache=True, forceinline=True)
def _candidates(largest, shape, reach, out):
    """Steps that are tried where the prediction is off by `largest` at most, to `out`: how many."""
    if shape[0] >= 2:
        likely, most = (
            max(1, (largest + 6) // 7),
            (0x1FFF if shape[0] == 3 else 0x7FFF if shape[4] else 0xFFFF) + shape[3],
        )
        count = 0
        for k in range(-2 * reach, reach + 1):
            step = clamped(likely + likely * k // (4 * max(1, reach)), max(1, shape[3]), most)
            if count == 0 or out[count - 1] != step:
                out[count] = step
                count += 1
        return count
    top = MOST_GROWTH if shape[1] else MOST_SHIFT
    likely = 0
    while likely < top and largest > 7 << likely:
        likely += 1
    count = 0
    for power in range(max(0, likely - reach), min(top, likely + reach) + 1):
        out[count] = 1 << power
        count += 1
    return count


@njit(cache=True, nogil=True)
def encode_frames(pcm, places, shape, filters, reach, state, out):
    """Encode one channel, frames (count, samples), to out[places]; reach: how far around a likely step is looked; state: the
    channel's last sample and the one before, as they are decoded."""
    word, grows, big, plus, header, low_first = shape[0], shape[1], shape[2], shape[3], shape[5], shape[6] != 0
    bits, rounding = shape[8], shape[9]
    last, before = state[0], state[1]
    steps = np.zeros(8 * reach + 8, np.int64)
    for f in range(len(places)):
        best, best_step, least = 0, 1, np.int64(-1)
        for number in range(len(filters)):
            one, two = filters[number, 0], filters[number, 1]
            largest, a, b = np.int64(0), last, before
            for n in range(pcm.shape[1]):
                value = np.int64(pcm[f, n])
                largest = max(largest, abs(value - _predicted(one, two, a, b, bits, rounding)))
                a, b = value, a
            for k in range(_candidates(largest, shape, reach, steps)):
                error = _error(pcm[f], one, two, steps[k], last, before, bits, rounding, least)
                if least < 0 or error < least:
                    best, best_step, least = number, steps[k], error
        place = places[f]
        if word >= 2:
            number = best_step - plus | (best << 13 if word == 3 else 0)
            out[place], out[place + 1] = (number >> 8, number & 255) if big else (number & 255, number >> 8)
        else:
            power = 0
            while best_step >> power + 1:
                power += 1
            shift = power if grows else MOST_SHIFT - power
            out[place] = best << 4 | shift if word == 0 else shift << 4 | best
        one, two = filters[best, 0], filters[best, 1]
        for i in range(pcm.shape[1]):
            guess = _predicted(one, two, last, before, bits, rounding)
            nibble = _nibble(np.int64(pcm[f, i]) - guess, best_step)
            sample = clamped(guess + nibble * best_step, -32768, 32767)
            before, last = last, sample
            out[place + header + (i >> 1)] |= (nibble & 15) << (0 if (i & 1 == 0) == low_first else 4)
    state[0], state[1] = last, before


@njit(cache=True)
def cost_of(stretches, shape, filters):
    """The squared error of stretches, (stretches, 1 + frames, samples), each encoded behind its first frame as it is."""
    bits, rounding, total = shape[8], shape[9], np.int64(0)
    steps = np.zeros(16, np.int64)
    for s in range(stretches.shape[0]):
        last, before = np.int64(stretches[s, 0, -1]), np.int64(stretches[s, 0, -2])
        for f in range(1, stretches.shape[1]):
            wanted = stretches[s, f]
            best, best_step, least = 0, 1, np.int64(-1)
            for number in range(len(filters)):
                one, two = filters[number, 0], filters[number, 1]
                largest, a, b = np.int64(0), last, before
                for value in wanted:
                    largest = max(largest, abs(value - _predicted(one, two, a, b, bits, rounding)))
                    a, b = np.int64(value), a
                for k in range(_candidates(largest, shape, 1, steps)):
                    error = _error(wanted, one, two, steps[k], last, before, bits, rounding, least)
                    if least < 0 or error < least:
                        best, best_step, least = number, steps[k], error
            one, two = filters[best, 0], filters[best, 1]
            for value in wanted:
                guess = _predicted(one, two, last, before, bits, rounding)
                sample = clamped(guess + _nibble(value - guess, best_step) * best_step, -32768, 32767)
                before, last = last, sample
            total += least
    return total

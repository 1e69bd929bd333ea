"""How many frames each packet holds, by its first bytes. Sources: Vorbis I specification, 4.3.1; RFC 6716, 3.1 and 3.2."""

from numba import njit


@njit(cache=True)
def vorbis_frames(data, starts, sizes, short, long, flags, mask, before, out):
    """Frames that each packet adds: a quarter of its block and of the one before; returns the last block, or -1 - n.

    `flags` tells of each mode whether its block is the long one; packet n with a mode that there is not ends it.
    """
    for n in range(len(sizes)):
        out[n] = 0
        if sizes[n] == 0 or data[starts[n]] & 1:  # no audio
            continue
        mode = data[starts[n]] >> 1 & mask
        if mode >= len(flags):
            return -1 - n
        block = long if flags[mode] else short
        if before:
            out[n] = (before + block) // 4
        before = block
    return before


@njit(cache=True)
def opus_frames(data, starts, sizes, table, out):
    """Frames at 48,000 Hz of each packet by its first bytes (RFC 6716, 3.1 and 3.2)."""
    for n in range(len(sizes)):
        out[n] = 0
        if sizes[n] == 0:
            continue
        toc = data[starts[n]]
        code = toc & 3
        count = 1 if code == 0 else 2
        if code == 3:
            count = data[starts[n] + 1] & 63 if sizes[n] > 1 else 0
        out[n] = min(table[toc >> 3] * count, 5760)

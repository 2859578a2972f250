"""The envelope that a hit sets off: down, hold, and back up by itself."""

from salt_anvil.core.audio import TINY, Sound
from salt_anvil.core.compiled import kernel
from salt_anvil.core.dsp.grid import grid_cells

# Columns of the control vector of `duck_into`; threshold as an amplitude, times in frames.
THRESHOLD, RETRIGGER, ATTACK, HOLD, DECAY, FALL = range(6)
CONTROLS = 6
# Places in the state.
LEVEL, ARMED, SINCE, PHASE, AT, FROM = range(6)
STATES = 6
IDLE, DOWN, HELD, BACK = range(4)
REARM = 0.7079457843841379
"""A hit is over when the detector is 3 dB under the threshold."""


@kernel
def duck_into(
    depth: Sound,
    hits: Sound,
    key: Sound,
    start: int,
    value: Sound,
    step: Sound,
    curved: bool,
    state: Sound,
) -> None:
    """Fill depth (frames,) with the envelope, 0 to 1, and hits with 1 where one begins.

    key: (frames, channels); the louder channel counts. value, step: (grid points, CONTROLS).
    curved: the way back slows down towards its end. state: (STATES,), changed. Every hit sets off
    the same envelope, however loud it is; the way down starts from where the envelope stands.
    """
    frames, channels = key.shape
    level, armed, since = state[LEVEL], state[ARMED], state[SINCE]
    phase, where, origin = state[PHASE], state[AT], state[FROM]
    for at, n, k, offset in grid_cells(start, frames):
        key_here = key[at : at + n]
        hits_here = hits[at : at + n]
        depth_here = depth[at : at + n]
        v, s = value[k], step[k]
        for i in range(n):
            j = offset + i
            x = abs(key_here[i, 0])
            if channels == 2:
                x = max(x, abs(key_here[i, 1]))
            level = max(x, level + (v[FALL] + s[FALL] * j) * (x - level))
            threshold = v[THRESHOLD] + s[THRESHOLD] * j
            since += 1.0
            hits_here[i, 0] = 0.0
            if level < threshold * REARM:
                armed = 1.0
            now = 0.0
            if phase == DOWN:
                now = origin + (1.0 - origin) * where / max(v[ATTACK] + s[ATTACK] * j, 1.0)
            elif phase == HELD:
                now = 1.0
            elif phase == BACK:
                now = 1.0 - where / max(v[DECAY] + s[DECAY] * j, 1.0)
                if curved:
                    now *= now
            if armed == 1.0 and level >= threshold and since >= v[RETRIGGER] + s[RETRIGGER] * j:
                armed, since = 0.0, 0.0
                origin, phase, where = now, DOWN, 0.0
                hits_here[i, 0] = 1.0
            where += 1.0
            if phase == DOWN and where >= v[ATTACK] + s[ATTACK] * j:
                phase, where = HELD, 0.0
            elif phase == HELD and where >= v[HOLD] + s[HOLD] * j:
                phase, where = BACK, 0.0
            elif phase == BACK and where >= v[DECAY] + s[DECAY] * j:
                phase, where = IDLE, 0.0
            depth_here[i] = min(max(now, 0.0), 1.0)
    state[LEVEL] = level if level > TINY else 0.0
    state[ARMED], state[SINCE] = armed, min(since, 1e9)
    state[PHASE], state[AT], state[FROM] = phase, min(where, 1e9), origin

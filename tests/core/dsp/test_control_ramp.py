"""Controls that glide, and controls that lag: frame by frame what stood so long before."""

import numpy as np
import pytest

from salt_anvil.core.audio import GRID
from salt_anvil.core.dsp.control_ramp import ControlRamp, lag_state, lagging


@pytest.mark.parametrize("lag", [1, 64, 88, 200])
def test_a_ramp_that_lags_is_what_it_was_so_long_ago(lag: int) -> None:
    """Frame by frame what stood `lag` frames before; cold, it stood where it begins."""
    ramp = ControlRamp(np.array([1.0, -2.0]))
    kept = lag_state(lag, 2)
    line: list[np.ndarray] = []
    start = 0
    for turn, frames in enumerate((1024, 64, 100, 2048, 30, 1024, 4096, 500, 64)):
        if turn in (1, 3, 5):
            ramp.to(np.array([float(turn), -2.0 + turn]))
        along = ramp.over(start, frames)
        line += [along.value[k] + along.step[k] * (i % GRID)
                 for i in range(start, start + frames)
                 for k in [0 if along.still else i // GRID - start // GRID]]  # fmt: skip
        late, then = lagging(along, lag, start, frames, kept)
        assert then == start - lag
        for i in range(start, start + frames):
            k = (i - lag) // GRID - then // GRID
            expected = line[max(i - lag, 0)]
            found = late.value[k] + late.step[k] * ((i - lag) % GRID)
            assert found == pytest.approx(expected, abs=1e-12), (turn, i)
        start += frames

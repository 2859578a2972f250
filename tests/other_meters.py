"""Other meters of the same standard, for tests and benches."""

import av
import numpy as np


def ffmpeg_summary(sound: np.ndarray, rate: int) -> dict[str, float]:
    """Return what FFmpeg's ebur128 says of stereo sound; dBTP and the greatest M and S too."""
    graph = av.filter.Graph()
    source = graph.add_abuffer(
        sample_rate=rate, format="fltp", layout="stereo", time_base=f"1/{rate}"
    )
    meter = graph.add("ebur128", "metadata=1:peak=true")
    sink = graph.add("abuffersink")
    source.link_to(meter)
    meter.link_to(sink)
    graph.configure()
    last: dict[str, float] = {}
    most = {"M": -120.0, "S": -120.0}
    for at in range(0, len(sound) - 4799, 4800):
        planar = np.ascontiguousarray(sound[at : at + 4800].T.astype(np.float32))
        frame = av.AudioFrame.from_ndarray(planar, "fltp", "stereo")
        frame.sample_rate, frame.pts = rate, at
        source.push(frame)
        while True:
            try:
                out = sink.pull()
            except (av.BlockingIOError, av.EOFError):
                break
            told = {k.removeprefix("lavfi.r128."): float(v) for k, v in out.metadata.items()}
            for key in ("M", "S"):
                most[key] = max(most[key], told.get(key, -120.0))
            last.update(told)
    return last | most

/** What can stand between the sound and the ear; nothing of it is ever printed. */
export const WAYS = {
  mono: ['mono', '6', 'both channels added, on both sides'],
  sides: ['sides only', '7', 'what left and right do not have in common'],
  ear: ['one ear', '8', 'the left side alone, then the right one'],
  swapped: ['swapped', '9', 'left and right change places'],
  band: ['one band', 'N', 'lows, 150 to 800 Hz, to 5 kHz, above, one after another'],
  small: [
    'small loudspeaker',
    'U',
    'a radio on a shelf, then a phone: mono, narrow, a little bent',
  ],
  dim: ['dim', '0', '20 dB down'],
} as const;
export type Way = keyof typeof WAYS;
/** A place of the spectrum, and how narrow it is. */
export interface Place {
  hz: number;
  q: number;
}
/** Without a Q of its own a filter is a steep cut. */
type Filter = [BiquadFilterType, number, number?];

/** Ranges in Hz, as in the ledger's balance. */
const BANDS = [
  ['lows', null, 150],
  ['150 to 800 Hz', 150, 800],
  ['800 Hz to 5 kHz', 800, 5000],
  ['above 5 kHz', 5000, null],
] as const;
/** Small loudspeakers: ends in Hz, 24 dB per octave, and how far they bend (common practice, no
 * source). */
const SPEAKERS = [
  ['radio on a shelf', 160, 9000, 1.2],
  ['phone', 500, 5000, 2.5],
] as const;
const EARS = ['left ear', 'right ear'] as const;
const STATES: Record<Way, readonly string[]> = {
  mono: ['mono'],
  sides: ['sides only'],
  ear: EARS,
  swapped: ['swapped'],
  band: BANDS.map(([name]) => name),
  small: SPEAKERS.map(([name]) => name),
  dim: ['dim'],
};
/** These three say what becomes of two channels; one of them at a time. */
const EXCLUSIVE: Way[] = ['mono', 'sides', 'ear'];
const DIM = 10 ** (-20 / 20);
/** Changes glide, so that nothing clicks. */
const GLIDE_S = 0.008;
/** Poles of a Butterworth cut of the fourth order, as two of the second. */
const Q_DB = [0.5412, 1.3066].map((q) => 20 * Math.log10(q));

/** Monitoring: a graph of the browser's own nodes behind the player. */
export class Monitor {
  /** How far each way is switched on; 0 is off. */
  on = $state<Record<Way, number>>({
    mono: 0,
    sides: 0,
    ear: 0,
    swapped: 0,
    band: 0,
    small: 0,
    dim: 0,
  });
  /** One narrow place that is heard alone, while somebody holds it. */
  place = $state.raw<Place | null>(null);
  private graph: Graph | null = null;

  /** What is switched on, in words. */
  readonly words: string[] = $derived([
    ...(this.place ? [`${Math.round(this.place.hz)} Hz alone`] : []),
    ...(Object.keys(WAYS) as Way[]).flatMap((way) => {
      const state = STATES[way][this.on[way] - 1];
      return state ? [state] : [];
    }),
  ]);

  /** Off, on, or the next of several states. */
  turn(way: Way): void {
    const next = (this.on[way] + 1) % (STATES[way].length + 1);
    if (next && EXCLUSIVE.includes(way)) for (const other of EXCLUSIVE) this.on[other] = 0;
    this.on[way] = next;
    this.graph?.set(this.on, this.place);
  }

  clear(): void {
    for (const way of Object.keys(WAYS) as Way[]) this.on[way] = 0;
    this.only(null);
  }

  /** Hears a narrow place alone; null lets go. */
  only(place: Place | null): void {
    this.place = place;
    this.graph?.set(this.on, place);
  }

  /** Puts the graph between a source and where it is heard. */
  attach(context: BaseAudioContext, source: AudioNode): void {
    this.graph = new Graph(context, source);
    this.graph.set(this.on, this.place, true);
  }
}

/** Nodes: two channels by four gains, then two detours that are faded in, then the level. */
class Graph {
  private cross: GainNode[] = [];
  private band: Detour;
  private small: Detour;
  private level: GainNode;

  constructor(
    private context: BaseAudioContext,
    source: AudioNode,
  ) {
    const split = context.createChannelSplitter(2);
    const merge = context.createChannelMerger(2);
    source.connect(split);
    for (const from of [0, 1])
      for (const to of [0, 1]) {
        const gain = context.createGain();
        split.connect(gain, from);
        gain.connect(merge, 0, to);
        this.cross.push(gain);
      }
    this.band = new Detour(context, merge);
    this.small = new Detour(context, this.band.out);
    this.level = context.createGain();
    this.small.out.connect(this.level).connect(context.destination);
  }

  set(on: Record<Way, number>, place: Place | null, now = false): void {
    const [a, b, c, d] = crossed(on);
    for (const [i, gain] of [a, b, c, d].entries()) this.glide(this.cross[i]!.gain, gain, now);
    const band = BANDS[on.band - 1];
    const cuts = band ? [cut(band[1], 'highpass'), cut(band[2], 'lowpass')].flat() : null;
    this.band.set(place ? [['bandpass', place.hz, place.q]] : cuts, 0, now);
    const speaker = SPEAKERS[on.small - 1];
    const [low, high, bend] = speaker ? [speaker[1], speaker[2], speaker[3]] : [null, null, 0];
    const ends = [cut(low, 'highpass'), cut(high, 'lowpass')].flat();
    this.small.set(speaker ? ends : null, bend, now);
    this.glide(this.level.gain, on.dim ? DIM : 1, now);
  }

  private glide(param: AudioParam, value: number, now: boolean): void {
    if (now) param.value = value;
    else param.setTargetAtTime(value, this.context.currentTime, GLIDE_S);
  }
}

/** Left to left, left to right, right to left, right to right. */
function crossed(on: Record<Way, number>): [number, number, number, number] {
  const mono = on.mono || on.small;
  let ways: [number, number, number, number] = [1, 0, 0, 1];
  if (on.sides) ways = [0.5, 0.5, -0.5, -0.5];
  else if (on.ear) ways = on.ear === 1 ? [1, 0, 0, 0] : [0, 0, 0, 1];
  else if (mono) ways = [0.5, 0.5, 0.5, 0.5];
  const [a, b, c, d] = ways;
  return on.swapped ? [b, a, d, c] : ways;
}

function cut(hz: number | null, type: 'highpass' | 'lowpass'): Filter[] {
  return hz === null ? [] : [[type, hz]];
}

/** Filters and a bend that the sound takes, or does not. */
class Detour {
  readonly out: GainNode;
  private straight: GainNode;
  private through: { last: AudioNode; fade: GainNode } | null = null;
  private held = '';

  constructor(
    private context: BaseAudioContext,
    private source: AudioNode,
  ) {
    this.out = context.createGain();
    this.straight = context.createGain();
    source.connect(this.straight).connect(this.out);
  }

  set(filters: Filter[] | null, bend: number, now: boolean): void {
    const wanted = JSON.stringify([filters, bend]);
    if (wanted === this.held) return;
    this.held = wanted;
    this.leave(now);
    this.fade(this.straight.gain, filters ? 0 : 1, now);
    if (!filters) return;
    let last: AudioNode = this.source;
    for (const [type, hz, own] of filters)
      for (const q of own === undefined ? Q_DB : [own]) {
        const node = this.context.createBiquadFilter();
        node.type = type;
        node.frequency.value = hz;
        node.Q.value = q;
        last = last.connect(node);
      }
    if (bend) last = last.connect(bent(this.context, bend));
    const fade = this.context.createGain();
    fade.gain.value = now ? 1 : 0;
    last.connect(fade).connect(this.out);
    this.through = { last, fade };
    this.fade(fade.gain, 1, now);
  }

  private leave(now: boolean): void {
    const old = this.through;
    this.through = null;
    if (!old) return;
    this.fade(old.fade.gain, 0, now);
    setTimeout(() => old.fade.disconnect(), 200);
  }

  private fade(param: AudioParam, value: number, now: boolean): void {
    if (now) param.value = value;
    else param.setTargetAtTime(value, this.context.currentTime, GLIDE_S);
  }
}

/** A soft bend, as loud as before where it is quiet. */
function bent(context: BaseAudioContext, drive: number): WaveShaperNode {
  const shaper = context.createWaveShaper();
  const count = 2049;
  shaper.curve = Float32Array.from({ length: count }, (_, i) => {
    const x = (2 * i) / (count - 1) - 1;
    return Math.tanh(drive * x) / drive;
  });
  shaper.oversample = '4x';
  return shaper;
}

import type { BandRecord, BandValue, Control, Params } from './types';

/** A band's letter in its picture: how it is told apart in little room. */
export const SHORT: Record<string, string> = {
  'low-cut': 'low cut',
  'high-cut': 'high cut',
  'low-shelf': 'low shelf',
  'high-shelf': 'high shelf',
  bell: 'bell',
  notch: 'notch',
};
const GAINS = ['low-shelf', 'high-shelf', 'bell'];
/** Gain that the field reaches up and down to, in dB. */
export const REACH = 18;

export const hasGain = (band: BandRecord): boolean => GAINS.includes(String(band.type));
export const gainOf = (band: BandRecord): number => (hasGain(band) ? Number(band.gain_db) : 0);
export const hzOf = (band: BandRecord): number => Number(band.hz);

export function bandsOf(params: Params | undefined, control: Control | undefined): BandRecord[] {
  return (params?.[control?.name ?? ''] as BandRecord[] | undefined) ?? [];
}

/** A band with what its control declares, and something of its own. */
export function freshBand(control: Control, own: BandRecord): BandRecord {
  const found: BandRecord = {};
  for (const field of control.fields ?? []) found[field.name] = field.default as BandValue;
  return { ...found, ...own };
}

function within(control: Control, name: string, value: number): number {
  const field = control.fields?.find((f) => f.name === name);
  return Math.min(Math.max(value, field?.low ?? -Infinity), field?.high ?? Infinity);
}

/** The bands with one of them moved to a frequency and, if it has one, a gain. */
export function movedBand(
  bands: BandRecord[],
  index: number,
  control: Control,
  hz: number,
  gain: number,
): BandRecord[] {
  return changedBand(bands, index, (band) => ({
    hz: Number(within(control, 'hz', hz).toPrecision(3)),
    ...(hasGain(band) ? { gain_db: Math.round(within(control, 'gain_db', gain) * 10) / 10 } : {}),
  }));
}

export function changedBand(
  bands: BandRecord[],
  index: number,
  change: (band: BandRecord) => BandRecord,
): BandRecord[] {
  return bands.map((band, i) => (i === index ? { ...band, ...change(band) } : band));
}

/** The bands with one band's width changed by a share: narrower above 1. */
export function narrowed(
  bands: BandRecord[],
  index: number,
  control: Control,
  by: number,
): BandRecord[] {
  return changedBand(bands, index, (band) => ({
    q: Number(within(control, 'q', Number(band.q) * by).toFixed(2)),
  }));
}

/** The bands after an arrow or a page key on one of them; fine: a tenth or a quarter of a step. */
export function stepped(
  bands: BandRecord[],
  index: number,
  control: Control,
  key: string,
  fine: boolean,
): BandRecord[] | null {
  const band = bands[index];
  if (!band) return null;
  const [db, across] = fine ? [0.1, 2 ** (1 / 48)] : [1, 2 ** (1 / 12)];
  const to = (by: number, up: number): BandRecord[] =>
    movedBand(bands, index, control, hzOf(band) * by, gainOf(band) + up);
  switch (key) {
    case 'ArrowUp':
      return to(1, db);
    case 'ArrowDown':
      return to(1, -db);
    case 'ArrowRight':
      return to(across, 0);
    case 'ArrowLeft':
      return to(1 / across, 0);
    case 'PageUp':
      return narrowed(bands, index, control, 1.1);
    case 'PageDown':
      return narrowed(bands, index, control, 1 / 1.1);
  }
  return null;
}

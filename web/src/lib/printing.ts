/** What is typed and chosen for a print, as the server takes it. */
import { Refusal } from './api';
import type { Delivery, PrintOptions } from './types';

type Coder = Delivery['coders'][number];
type Rate = NonNullable<PrintOptions['rate']>;

const CONTAINERS: Record<string, string> = {
  WAV: 'wav',
  'Broadcast WAV': 'bwf',
  AIFF: 'aiff',
  FLAC: 'flac',
};
/** The files that lose nothing, by the name that people give them. */
export const LOSSLESS = Object.keys(CONTAINERS);
export const AS_SESSION = 'as the session';
export const RATES_KHZ = [44.1, 48, 88.2, 96, 192];

/** The sample widths that a file can have. */
export function widthsOf(container: string): string[] {
  return container === 'AIFF' || container === 'FLAC' ? ['16', '24'] : ['16', '24', '32f'];
}

/** The format's name; coder: of a listening copy, or null. */
export function formatOf(
  container: string,
  width: string,
  coder: Coder | null,
  kbps: number,
): string {
  if (!coder) return `${CONTAINERS[container]}-${width}`;
  const known = coder.kbps.includes(kbps) ? kbps : coder.kbps[coder.kbps.length - 2];
  return `${coder.codec}-${known ?? kbps}`;
}

/** The rate in Hz, or null for the session's own. */
export function rateOf(words: string): Rate | null {
  return words === AS_SESSION ? null : (Math.round(Number.parseFloat(words) * 1000) as Rate);
}

/** The length of a fade as it was typed; it is refused with a sentence. */
export function fadeSeconds(text: string): number {
  const value = Number(text.replace(',', '.'));
  if (!Number.isFinite(value) || value < 0 || value > 60)
    throw new Refusal(`“${text}” is no length of a fade; 0 to 60 s can be typed`);
  return value;
}

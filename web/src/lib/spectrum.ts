/** The spectrum's field: logarithmic in Hz, straight in dB. */
export const LEVELS = { low: -84, high: 6 };
export const MARKS: [number, string][] = [
  [50, '50'],
  [100, '100'],
  [200, '200'],
  [500, '500'],
  [1000, '1k'],
  [2000, '2k'],
  [5000, '5k'],
  [10000, '10k'],
];
const LOW = 20;
const OCTAVES = Math.log2(20000 / LOW);

export const hzX = (hz: number, width: number): number => (Math.log2(hz / LOW) / OCTAVES) * width;
export const hzAt = (x: number, width: number): number => LOW * 2 ** ((x / width) * OCTAVES);

export function dbY(db: number, height: number): number {
  const share = (db - LEVELS.low) / (LEVELS.high - LEVELS.low);
  return height * (1 - Math.min(Math.max(share, 0), 1));
}

/** Which of the bands between the edges a frequency lies in. */
export function bandAt(edges: number[], hz: number): number {
  const above = edges.findIndex((edge, i) => i > 0 && hz < edge);
  return (above < 0 ? edges.length - 1 : above) - 1;
}

/** A line through levels; without frequencies they are those of the server's spectrum. */
export function path(levels: number[], width: number, height: number, hz?: number[]): string {
  return levels
    .map((db, i) => {
      const x = hzX(hz?.[i] ?? LOW * 2 ** (i / 12), width);
      return `${i ? 'L' : 'M'}${x.toFixed(1)} ${dbY(db, height).toFixed(1)}`;
    })
    .join('');
}

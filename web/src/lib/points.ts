/** Points of a curve of level in against level out, by increasing level in. */
export type LevelPoint = [number, number];

const round = (value: number): number => Math.round(value * 10) / 10;
const clamp = (value: number, low: number, high: number): number =>
  Math.min(Math.max(value, low), high);

/** The point nearest to a place, if one is within so many dB of it. */
export function nearest(points: LevelPoint[], at: LevelPoint, within: number): number | null {
  let found: number | null = null;
  let least = within;
  points.forEach(([x, y], i) => {
    const away = Math.hypot(x - at[0], y - at[1]);
    if (away <= least) [found, least] = [i, away];
  });
  return found;
}

/** The points with one moved; it stays between its neighbours and within what is allowed. */
export function dragged(
  points: LevelPoint[],
  index: number,
  to: LevelPoint,
  allowed?: { low?: number | null; high?: number | null },
): LevelPoint[] {
  const low = allowed?.low ?? -100;
  const high = allowed?.high ?? 20;
  const before = points[index - 1]?.[0];
  const behind = points[index + 1]?.[0];
  const least = before === undefined ? low : before + 0.1;
  const most = behind === undefined ? high : behind - 0.1;
  const moved: LevelPoint = [round(clamp(to[0], least, most)), round(clamp(to[1], low, high))];
  return points.map((point, i) => (i === index ? moved : point));
}

/** The points with one more; one with the same level in is moved instead. */
export function added(points: LevelPoint[], at: LevelPoint): LevelPoint[] {
  const fresh: LevelPoint = [round(at[0]), round(at[1])];
  const others = points.filter(([x]) => Math.abs(x - fresh[0]) > 0.05);
  return [...others, fresh].sort((a, b) => a[0] - b[0]);
}

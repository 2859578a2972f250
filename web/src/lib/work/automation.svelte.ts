import { api } from '../api';
import { branches, find, isSplit } from '../chain';
import type { Lane, ParamValue, Place, Point } from '../types';
import { Selection } from './selection.svelte';

/** What moves by itself: automation and levers, and what is written of it during play. */
export class Automation extends Selection {
  lanes = $state.raw<Lane[]>([]);
  /** The control whose automation lies over the time strip. */
  lane = $state.raw<Place | null>(null);
  /** Whether controls moved during play leave automation behind. */
  writing = $state(false);

  pointsOf(place: Place): Point[] | null {
    const { owner, control } = place;
    const all = this.state?.model.automation ?? [];
    return all.find((a) => a.owner === owner && a.control === control)?.points ?? null;
  }

  laneOf(owner: string, control: string): Lane | null {
    return this.lanes.find((l) => l.owner === owner && l.control === control) ?? null;
  }

  /** Where a moving control stands at the playhead, null if it does not move by itself. */
  moving(owner: string, control: string): number | null {
    const lane = this.laneOf(owner, control);
    if (!lane || this.held[`lane:${owner}:${control}`]) return null;
    const last = lane.values.length - 1;
    const at = (this.live.frame / Math.max(this.frames, 1)) * last;
    const index = Math.min(Math.max(Math.floor(at), 0), last);
    const a = lane.values[index] ?? 0;
    const b = lane.values[Math.min(index + 1, last)] ?? a;
    return a + (b - a) * Math.min(Math.max(at - index, 0), 1);
  }

  /** Whether a moved control goes into its automation instead of its setting. */
  protected steered(place: Place, value: ParamValue): boolean {
    const { owner, control } = place;
    const lever = this.laneOf(owner, control)?.lever;
    if (lever) {
      const by = this.model?.levers.find((l) =>
        l.moves.some((m) => m.owner === owner && m.control === control),
      );
      this.problem = `This control is moved by the lever ${by?.name ?? ''}.`;
      return true;
    }
    const points = this.pointsOf(place);
    const playing = this.live.transport.playing;
    if (typeof value !== 'number' || (!points && !(this.writing && playing))) return false;
    const key = `lane:${owner}:${control}`;
    const now = this.live.frame / this.rate;
    if (!playing && points) {
      const at = Math.max(
        points.findLastIndex((p) => p.at_s <= now + 1e-6),
        0,
      );
      const moved = points.map((p, i) => (i === at ? { ...p, value } : p));
      this.take_in_hand(key, { type: 'set_lane', owner, control, points: moved });
      return true;
    }
    const before = this.held[key];
    const written = before?.type === 'write_lane' ? before.points : [];
    const at_s = Math.max(now, (written[written.length - 1]?.at_s ?? 0) + 0.001);
    const point: Point = { at_s, value, shape: 'straight' };
    this.take_in_hand(key, { type: 'write_lane', owner, control, points: [...written, point] });
    return true;
  }

  /** A list in hand, less what goes into its items' automation; null where nothing else is new. */
  protected steeredWithin(owner: string, name: string, wanted: unknown[]): ParamValue | null {
    const element = find(this.model?.strips.flatMap((s) => s.chain) ?? [], owner);
    if (!element) return wanted as ParamValue;
    const before = (isSplit(element) ? element.crossovers_hz : element.params[name]) as unknown[];
    if (!Array.isArray(before) || before.length !== wanted.length) return wanted as ParamValue;
    let went = false;
    let kept = false;
    const next = wanted.map((item, i) => {
      const old = before[i];
      if (typeof item === 'number') {
        if (item === old) return item;
        const steered = this.steered({ owner, control: `${name}.${i}` }, item);
        if (steered) went = true;
        else kept = true;
        return steered ? old : item;
      }
      const point = Array.isArray(item);
      const now: Record<string, unknown> = point
        ? { in: item[0], out: item[1] }
        : { ...(item as object) };
      const then = (
        point ? { in: (old as number[])[0], out: (old as number[])[1] } : old
      ) as typeof now;
      for (const [field, value] of Object.entries(now)) {
        if (value === then[field]) continue;
        if (this.steered({ owner, control: `${name}.${i}.${field}` }, value as ParamValue)) {
          went = true;
          now[field] = then[field];
        } else kept = true;
      }
      return point ? [now.in, now.out] : now;
    });
    return went && !kept ? null : (next as ParamValue);
  }

  protected async loadLanes(): Promise<void> {
    const at = this.state;
    if (!at) return;
    if (at.model.automation.length === 0 && at.model.levers.length === 0) {
      this.lanes = [];
      return;
    }
    const found = await api.lanes(at.id).catch(() => null);
    if (found && this.state === at) this.lanes = found;
  }

  override select(strip: string, stage?: string): void {
    super.select(strip, stage);
    this.tidyLane();
  }

  protected override arrived(): void {
    super.arrived();
    this.tidyLane();
    void this.loadLanes();
  }

  /** Automation closes with what it belongs to: the strip that is left, the stage or band that is gone. */
  private tidyLane(): void {
    const owner = this.lane?.owner;
    const strip = this.strip;
    if (this.lane && !this.declared(this.lane)) this.lane = null;
    if (!owner || this.model?.levers.some((l) => l.id === owner)) return;
    const here = strip && [strip.id, ...branches(strip.chain).map((b) => b.id)];
    if (!strip || !(here?.includes(owner) || find(strip.chain, owner))) this.lane = null;
  }
}

import { api } from '../api';
import { branches, find } from '../chain';
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

  /** Automation closes with what it belongs to: the strip that is left, the stage that is gone. */
  private tidyLane(): void {
    const owner = this.lane?.owner;
    const strip = this.strip;
    if (!owner || this.model?.levers.some((l) => l.id === owner)) return;
    const here = strip && [strip.id, ...branches(strip.chain).map((b) => b.id)];
    if (!strip || !(here?.includes(owner) || find(strip.chain, owner))) this.lane = null;
  }
}

import { Monitor, type Place } from './monitor.svelte';
import { LAZIEST_MS, nextTick, TICK_MS } from './pace';
import type { Command, Event, Transport } from './types';
import type { Blend, PlayedReport, Reported, Used } from './wire';
import workletUrl from './player.worklet?worker&url';

export type Side = 'in' | 'out' | 'removed';

export interface Meter {
  left: number;
  right: number;
  reduction: number;
}

/** A place where the ear missed something, and why. */
export interface Miss {
  count: number;
  frame: number;
  words: string;
  at: Date;
}

const HOLD_S = 1.5;
/** What is heard changes within some 20 ms, without a click. */
const GLIDE_S = 0.006;
const calm = matchMedia('(prefers-reduced-motion: reduce)');
/** What is said to play must be heard within this time, or the page says why it is not. */
const SILENT_MS = 300;
const MISSES_KEPT = 50;

/** The live connection: transport, meters, and what is heard. One for the page. */
export class Live {
  transport = $state<Transport>({
    type: 'transport',
    playing: false,
    frame: 0,
    loop: null,
    epoch: 0,
  });
  connected = $state(false);
  missed = $state(0);
  misses = $state.raw<Miss[]>([]);
  ahead = $state.raw({ ms: 60, chosen: null as number | null, behind: false });
  /** Why nothing is heard although it plays. */
  silent = $state<string | null>(null);
  frame = $state(0);
  side = $state<Side>('out');
  held = $state<Side | null>(null);
  refused = $state<string | null>(null);
  momentary = $state(-120);
  truePeak = $state(-120);
  meters = $state.raw<Record<string, Meter>>({});
  /** Gains in dB (at most 0) that make both sides equally loud. */
  same = $state({ on: false, before: 0, after: 0 });

  /** Nothing that is measured of what plays is shown: somebody listens without looking. */
  covered = $state(false);

  /** What stands between the sound and the ear. */
  readonly monitor = new Monitor();

  context: AudioContext | null = null;
  node: AudioWorkletNode | null = null;
  private own: GainNode | null = null;
  private other: GainNode | null = null;
  private worker: Worker;
  private queue: PlayedReport[] = [];
  private removedGain = 1;
  private position = { frame: 0, at: 0, epoch: -1 };
  private peaks = new Map<string, { reduction: number; at: number }>();
  private listeners = new Set<(event: Event) => void>();
  private reportListeners = new Set<(batch: PlayedReport[]) => void>();
  private batch: PlayedReport[] = [];
  private ticked = 0;
  private tick = TICK_MS;
  private missedBefore = 0;
  private missedInAll = 0;
  private silence = 0;
  private reopen: string[] = [];

  constructor() {
    this.worker = new Worker(new URL('./socket.worker.ts', import.meta.url), { type: 'module' });
    this.worker.onmessage = (e: MessageEvent) => this.take(e.data);
    const scheme = location.protocol === 'https:' ? 'wss' : 'ws';
    this.worker.postMessage({ type: 'connect', url: `${scheme}://${location.host}/api/live` });
  }

  onEvent(listener: (event: Event) => void): () => void {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  }

  /** Calls the listener with the blocks heard since the last call, 20 times a second at most. */
  onReports(listener: (batch: PlayedReport[]) => void): () => void {
    this.reportListeners.add(listener);
    return () => this.reportListeners.delete(listener);
  }

  send(command: Command): void {
    const text = JSON.stringify(command);
    if (command.type === 'open') {
      this.reopen = [text];
      this.missedBefore = this.missedInAll;
      this.missed = 0;
      this.misses = [];
      this.meters = {};
      this.queue = [];
      this.transport = { ...this.transport, playing: false, frame: 0, loop: null };
      this.frame = 0;
      this.hush();
    }
    if (command.type === 'listen') this.reopen = [...this.reopen.slice(0, 1), text];
    this.worker.postMessage({ type: 'send', text });
  }

  /** Sound at a session's rate; the first call must come from a gesture. */
  async start(rate: number): Promise<void> {
    if (this.context && this.context.sampleRate !== rate) {
      await this.context.close();
      this.context = null;
    }
    if (!this.context) {
      this.context = new AudioContext({ sampleRate: rate, latencyHint: 'interactive' });
      await this.context.audioWorklet.addModule(workletUrl);
      this.node = new AudioWorkletNode(this.context, 'salt-anvil-player', {
        numberOfInputs: 0,
        outputChannelCount: [2],
      });
      const sum = this.context.createGain();
      this.own = this.context.createGain();
      this.other = this.context.createGain();
      this.other.gain.value = 0;
      this.node.connect(this.own).connect(sum);
      this.other.connect(sum);
      this.monitor.attach(this.context, sum);
      const channel = new MessageChannel();
      this.node.port.postMessage({ type: 'worker', port: channel.port1 }, [channel.port1]);
      this.worker.postMessage({ type: 'worklet', port: channel.port2 }, [channel.port2]);
      this.blend();
    }
    await this.context.resume();
  }

  /** Lets an element be heard beside what the engine plays, once `beside` says so. */
  playBeside(element: HTMLMediaElement): void {
    if (this.context && this.other)
      this.context.createMediaElementSource(element).connect(this.other);
  }

  /** Hears what the engine plays at a gain, and what plays beside at another. */
  beside(own: number, other: number): void {
    const now = this.context?.currentTime ?? 0;
    this.own?.gain.setTargetAtTime(own, now, GLIDE_S);
    this.other?.gain.setTargetAtTime(other, now, GLIDE_S);
  }

  hear(side: Side): void {
    this.side = side;
    this.blend();
  }

  /** Hold to hear another side; null lets go. */
  hold(side: Side | null): void {
    if (this.held === side) return;
    this.held = side;
    this.blend();
  }

  /** Hears what comes in at one narrow place alone; null lets go. */
  only(place: Place | null): void {
    this.monitor.only(place);
    this.blend();
  }

  /** Nothing stands between the sound and the ear any more. */
  hearAll(): void {
    this.monitor.clear();
    this.blend();
  }

  blend(): void {
    const side = this.monitor.place ? 'in' : (this.held ?? this.side);
    const before = this.same.on ? 10 ** (this.same.before / 20) : 1;
    const after = this.same.on ? 10 ** (this.same.after / 20) : 1;
    const gains: Blend = { type: 'blend', before: 0, after };
    if (side === 'in') Object.assign(gains, { before, after: 0 });
    if (side === 'removed') Object.assign(gains, { before: 1, after: -this.removedGain });
    this.node?.port.postMessage(gains);
  }

  private take(message: { type: string } & Record<string, unknown>): void {
    if (message.type === 'reported') this.report((message as unknown as Reported).reports);
    else if (message.type === 'used') this.step(message as unknown as Used);
    else if (message.type === 'event') this.event(message.event as Event);
    else if (message.type === 'connected') this.joined();
    else if (message.type === 'gone') {
      this.connected = false;
      this.hush();
      this.transport = { ...this.transport, playing: false };
    }
  }

  private report(reports: PlayedReport[]): void {
    for (const reported of reports) {
      const { epoch, frame, again } = reported;
      if (again === 0) {
        this.queue.push(reported);
        continue;
      }
      const at = this.queue.findLastIndex((old) => old.epoch === epoch && old.frame === frame);
      if (at >= 0) this.queue[at] = reported;
    }
  }

  private joined(): void {
    const again = !this.connected && this.position.epoch >= 0;
    this.connected = true;
    if (again) for (const text of this.reopen) this.worker.postMessage({ type: 'send', text });
  }

  private event(event: Event): void {
    if (event.type === 'transport') {
      this.transport = event;
      this.listenFor(event.playing && event.epoch !== this.heard ? event.epoch : null);
      if (event.epoch !== this.position.epoch) {
        this.queue = this.queue.filter((reported) => reported.epoch === event.epoch);
        this.position = { frame: event.frame, at: 0, epoch: event.epoch };
        if (!event.playing) this.frame = event.frame;
      }
      if (!event.playing) this.meters = {};
    } else if (event.type === 'refused') this.refused = event.text;
    else if (event.type === 'ahead') this.ahead = event;
    else if (event.type === 'missed') {
      const miss = { ...event, at: new Date() };
      this.misses = [miss, ...this.misses].slice(0, MISSES_KEPT);
    }
    for (const listener of this.listeners) listener(event);
  }

  /** What has been played says which reports are due. */
  private step(used: Used): void {
    this.missedInAll = used.missed;
    this.missed = used.missed - this.missedBefore;
    if (used.frames > 0) {
      this.heard = used.epoch;
      if (this.silence) this.hush();
    }
    if (used.epoch !== this.position.epoch || used.frame < 0) return;
    this.position = { frame: used.frame, at: performance.now(), epoch: used.epoch };
    while (this.queue[0] && this.isDue(this.queue[0], used)) {
      const due = this.queue.shift();
      if (due) this.batch.push(due);
    }
    const time = performance.now();
    // While the engine is behind, the page leaves it the machine.
    if (time - this.ticked < (this.ahead.behind ? LAZIEST_MS : this.tick)) return;
    this.ticked = time;
    // How long it takes until the page is drawn says how often it can be.
    requestAnimationFrame(() =>
      setTimeout(() => {
        this.tick = nextTick(this.tick, performance.now() - time, calm.matches);
      }),
    );
    this.frame = used.frame;
    const batch = this.batch.splice(0);
    const last = batch[batch.length - 1];
    if (this.covered) this.cover();
    if (!last || this.covered) return;
    for (const listener of this.reportListeners) listener(batch);
    this.show(last);
    this.meters = this.metered(batch);
  }

  private cover(): void {
    this.momentary = this.truePeak = -120;
    this.meters = {};
  }

  private heard = -1;

  /** Notes when what plays should be heard; says why not, if it is not. */
  private listenFor(epoch: number | null): void {
    this.hush();
    if (epoch === null) return;
    this.silence = window.setTimeout(() => {
      if (this.heard === epoch || !this.transport.playing) return;
      if (this.context?.state !== 'running') {
        this.silent = 'the browser holds the sound back: click Play';
      } else this.silent = this.transport.waiting ?? 'the engine is behind';
    }, SILENT_MS);
  }

  private hush(): void {
    window.clearTimeout(this.silence);
    this.silence = 0;
    this.silent = null;
  }

  private isDue(reported: PlayedReport, used: Used): boolean {
    if (reported.epoch !== used.epoch) return true;
    const later = this.queue[1];
    const wrapped = later !== undefined && later.frame < reported.frame;
    if (wrapped && used.frame < reported.frame) return true;
    return used.frame >= reported.frame && used.frame - reported.frame < 96000;
  }

  private show(reported: PlayedReport): void {
    this.momentary = reported.report.momentary;
    this.truePeak = reported.report.true_peak;
    if (reported.report.removed_gain !== this.removedGain) {
      this.removedGain = reported.report.removed_gain;
      this.blend();
    }
  }

  private metered(batch: PlayedReport[]): Record<string, Meter> {
    const time = performance.now() / 1000;
    const found: Record<string, Meter> = {};
    for (const { report } of batch) {
      for (const [id, [peakLeft, peakRight, most]] of Object.entries(report.strips)) {
        const held = this.peaks.get(id);
        if (!held || most >= held.reduction || time - held.at > HOLD_S) {
          this.peaks.set(id, { reduction: most, at: time });
        }
        const reduction = this.peaks.get(id)?.reduction ?? 0;
        const before = found[id];
        const left = Math.max(peakLeft, before?.left ?? 0);
        const right = Math.max(peakRight, before?.right ?? 0);
        found[id] = { left, right, reduction };
      }
    }
    return found;
  }
}

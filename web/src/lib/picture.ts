import type { Drawing } from './drawing.svelte';
import type { PlayedReport } from './wire';
import type { Hit, Kind, ParamValue, Picture, ScanAnswer, Stage } from './types';

/** What the analysis knows of a stage over the song, as far as it has come. */
export interface Known {
  picture: (columns: number) => Promise<Picture | null>;
  reports: (names: string[], columns: number) => Promise<Record<string, number[]> | null>;
  hits: (before: number) => Promise<Hit[]>;
}

/** What a picture on a stage's panel is given, and what it gives back. */
export interface PictureProps {
  stage: Stage;
  kind: Kind;
  drawing: Drawing;
  known: Known;
  rate: number;
  /** The length of the song, and where play is, in frames. */
  frames: number;
  frame: number;
  playing: boolean;
  /** Rises whenever what the analysis knows may have changed. */
  fresh: number;
  /** The band in hand of a stage that has bands. */
  bandIndex: number;
  /** What the last scan of a tamer gave. */
  scan: ScanAnswer | null;
  onReports: (listener: (batch: PlayedReport[]) => void) => () => void;
  onband: (index: number) => void;
  /** Whether a control moves by itself; shows its automation. */
  moves: (control: string) => boolean;
  onlane: (control: string) => void;
  onhold: (name: string, value: ParamValue) => void;
  onset: (name: string, value: ParamValue) => void;
  ondrop: () => void;
}

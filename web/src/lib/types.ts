import type { components } from './schema';

type Schemas = components['schemas'];
export type BandValue = number | string | boolean | null;
/** One band of tone or emphasis: what its control's fields declare. */
export type BandRecord = Record<string, BandValue>;
export type ParamValue = number | string | boolean | [number, number][] | BandRecord[] | null;
export type Params = Record<string, ParamValue>;
export type Slot = 'A' | 'B' | 'C' | 'D';
export type Stage = Omit<Schemas['Stage'], 'params' | 'key'> & {
  params: Params;
  key: Schemas['Key'];
  on: boolean;
  mix: number;
  silenced_cautions: string[];
};
export type Join = Required<Schemas['Join']>;
export type Branch = Omit<Required<Schemas['Branch']>, 'chain'> & { chain: Element[] };
export type Split = Omit<Required<Schemas['Split']>, 'branches' | 'join' | 'kind'> & {
  kind: 'split';
  branches: Branch[];
  join: Join;
};
/** A processor or a split. Only a split has the kind "split". */
export type Element = Stage | Split;
export type Send = Required<Schemas['Send']>;
export type Lever = Omit<Required<Schemas['Lever']>, 'moves'> & { moves: Move[] };
export type Move = Required<Schemas['Move']>;
export type Point = Required<Schemas['Point']>;
export type Lane = Schemas['LaneView'];
export type AimWish = Schemas['Aim'];
export type Wish = Schemas['Wish'];
export type AimStep = Schemas['AimStep'];
export type Figures = Schemas['Figures'];
export type KeepRecipe = Schemas['KeepRecipeRequest'];
export type LibraryItem = Schemas['LibraryItem'];
export type RecipeWords = Schemas['RecipeWords'];
export type Strip = Omit<Required<Schemas['Strip']>, 'chain' | 'join' | 'sends'> & {
  chain: Element[];
  join: Join;
  sends: Send[];
};
/** What settings A to D are of. */
export type Extent = Required<Schemas['Extent']>;
export interface Setting {
  chain: Element[];
  strip: Strip | null;
}
export interface Settings {
  extent: Extent;
  chosen: Slot;
  held: Partial<Record<Slot, Setting>>;
  names: Partial<Record<Slot, string>>;
}
/** What can be heard of an extent: one of its settings, or what goes in. */
export type Heard = Slot | 'in';
export type Trial = Required<Schemas['Trial']>;
export type Comparison = Schemas['Comparison'];
export type CompareRow = Schemas['Row'];
export type CompareRequest = Schemas['CompareRequest'];
export type Session = Omit<
  Required<Schemas['Session']>,
  'strips' | 'levers' | 'automation' | 'settings' | 'trials'
> & {
  settings: Settings[];
  trials: Trial[];
  strips: Strip[];
  levers: Lever[];
  automation: { owner: string; control: string; points: Point[] }[];
};
export type SessionState = Omit<Schemas['SessionState'], 'model'> & { model: Session };
export type SessionItem = Schemas['SessionItem'];
export type Kind = Schemas['Kind'];
export type Catalogue = Schemas['Catalogue'];
/** What is drawn for a stage, in the form that its kind has. */
export type StageDrawing = Schemas['DrawingAnswer']['drawing'];
export type Separation = Required<Schemas['Separation']>;
export type ScanAnswer = Required<Schemas['ScanAnswer']>;
export type SplitDrawing = Schemas['SplitDrawing'];

/** A control by its owner (strip, stage, split, branch, lever) and its name. */
export interface Place {
  owner: string;
  control: string;
}

export type Control = Schemas['Control'];
export type Edit = Schemas['Edits']['edits'][number];
export type Command = Schemas['Live']['command'];
export type Event = Schemas['Live']['event'];
export type Report = Schemas['BlockReport'];
/** Columns of the time strip; see salt_anvil.files.view.Picture. Pairs are minimum, maximum. */
export interface Picture {
  begin: number;
  end: number;
  columns: number;
  done: number;
  detector: boolean;
  makeup_db: number;
  before: Float32Array;
  after: Float32Array;
  /** Level after, as amplitude: one value a column. */
  body: Float32Array;
  reduction: Float32Array;
  level: Float32Array;
}
export type Ledger = Schemas['Ledger'];
export type Later = Schemas['Later'];
export type Reduction = Schemas['ReductionFigures'];
export type LedgerAnswer = Schemas['LedgerAnswer'];
export type Caution = Schemas['Caution'];
export type LabOptions = Schemas['LabOptions'];
export type LabRequest = Schemas['LabRequest'];
export type LabAnswer = Schemas['LabAnswer'];
export type Marker = Schemas['Marker'];
export type Bundle = Schemas['BundleAnswer'];
export type BroughtIn = Omit<Schemas['BroughtInAnswer'], 'state'> & { state: SessionState };
export type Hit = Schemas['Hit'];
export type StartingPoint = Schemas['StartingPoint'];
export type PrintItem = Schemas['PrintItem'];
export type Readiness = Schemas['Readiness'];
export type PrintOptions = Partial<Schemas['PrintOptions']>;
export type RevisionItem = Schemas['RevisionItem'];
export type Section = Schemas['Section'];
export type Transport = Schemas['Transport'];
export type Way = Schemas['Way'];
export type WayResult = Required<Schemas['WayResult']>;
export type Proof = Schemas['Proof'];
export type ProofState = Schemas['ProofState'];
export type ProofRequest = Schemas['ProofRequest'];
export type CeilingResult = Required<Schemas['CeilingResult']>;
export type Delivery = Schemas['Delivery'];
export type Target = Schemas['Target'];
export type Service = Required<Schemas['Service']>;
export type PlayedAnswer = Schemas['PlayedAnswer'];
export type StemsRequest = Omit<Schemas['StemsRequest'], 'options'> & { options: PrintOptions };
export type StemsWords = Schemas['StemsWords'];

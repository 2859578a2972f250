import type { components } from './schema';

type Schemas = components['schemas'];
export type ParamValue = number | string | boolean | null;
export type Params = Record<string, ParamValue>;
export type Slot = 'A' | 'B' | 'C' | 'D';
export type Stage = Omit<Schemas['Stage'], 'params' | 'slots' | 'key'> & {
  params: Params;
  slots: Partial<Record<Slot, Params>>;
  key: Schemas['Key'];
  on: boolean;
  mix: number;
  slot: Slot;
  meant: string[];
};
export type Strip = Omit<Required<Schemas['Strip']>, 'chain'> & { chain: Stage[] };
export type Session = Omit<Required<Schemas['Session']>, 'strips'> & { strips: Strip[] };
export type SessionState = Omit<Schemas['SessionState'], 'model'> & { model: Session };
export type SessionItem = Schemas['SessionItem'];
export type Kind = Schemas['Kind'];
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
  reduction: Float32Array;
  level: Float32Array;
}
export type Ledger = Schemas['Ledger'];
export type LedgerAnswer = Schemas['LedgerAnswer'];
export type Caution = Schemas['Caution'];
export type Hit = Schemas['Hit'];
export type StartingPoint = Schemas['StartingPoint'];
export type PrintItem = Schemas['PrintItem'];
export type PrintOptions = Partial<Schemas['PrintOptions']>;
export type RevisionItem = Schemas['RevisionItem'];
export type Section = Schemas['Section'];
export type Transport = Schemas['Transport'];

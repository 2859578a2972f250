import type { Session } from './types';

/** A section in frames; `open` if it lasts to the next one because it has no end of its own. */
export interface SectionSpan {
  index: number;
  name: string;
  begin: number;
  end: number;
  open: boolean;
}

/** What of a section is taken hold of. */
export type Part = 'name' | 'start' | 'end';

export function sectionSpans(model: Session, frames: number): SectionSpan[] {
  const at = (seconds: number): number => Math.round(seconds * model.rate);
  return model.sections.map((section, index) => {
    const next = model.sections[index + 1];
    const end = section.end_s ?? (next ? next.start_s : frames / model.rate);
    const begin = at(section.start_s);
    const open = section.end_s === null || section.end_s === undefined;
    return { index, name: section.name, begin, end: Math.max(at(end), begin), open };
  });
}

/** Frames of a bar of four beats, or of a second where there is no tempo. */
export function barFrames(model: Session): number {
  return model.bpm ? (240 / model.bpm) * model.rate : model.rate;
}

/** The nearest multiple of a unit; the frame itself if it is to be free. */
export function snapped(frame: number, unit: number, free: boolean): number {
  return Math.max(free ? Math.round(frame) : Math.round(Math.round(frame / unit) * unit), 0);
}

/** The section that a frame lies in. */
export function sectionAt(spans: SectionSpan[], frame: number): SectionSpan | undefined {
  return spans.find((s) => s.begin <= frame && frame < s.end);
}

/** Where a section would stand: an edge at the hand, all of it carried along, or one drawn anew. */
export function dragged(
  part: Part | 'new',
  section: SectionSpan | undefined,
  from: number,
  to: number,
  snap: (frame: number) => number,
): { begin: number; end: number } | null {
  if (part === 'new') {
    const ends = [snap(from), snap(to)];
    return { begin: Math.min(...ends), end: Math.max(...ends) };
  }
  if (!section) return null;
  if (part === 'start') return { begin: snap(to), end: section.end };
  if (part === 'end') return { begin: section.begin, end: snap(to) };
  const begin = snap(to - from + section.begin);
  return { begin, end: begin + section.end - section.begin };
}

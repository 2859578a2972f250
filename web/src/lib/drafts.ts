import { isSplit } from './chain';
import type { Edit, Element, Session, Split, Stage, Strip } from './types';

/** The session as it will be once what is in hand is let go: only what hands can hold. */
export function applied(model: Session, edits: Edit[]): Session {
  return edits.reduce(one, model);
}

function one(model: Session, edit: Edit): Session {
  switch (edit.type) {
    case 'set_strip':
      return onStrip(model, edit.strip, (s) => ({ ...s, [edit.field]: edit.value }));
    case 'set_send':
      return onStrip(model, edit.strip, (s) => ({
        ...s,
        sends: s.sends.map((send) => (send.to === edit.to ? { ...send, ...given(edit) } : send)),
      }));
    case 'set_bus_join':
      return onStrip(model, edit.strip, (s) => ({ ...s, join: { ...s.join, ...given(edit) } }));
    case 'set_params':
      return onElement(model, edit.stage, (e) => {
        const stage = e as Stage;
        return { ...stage, params: { ...stage.params, ...edit.params } } as Stage;
      });
    case 'set_stage':
      return onElement(model, edit.stage, (e) => ({ ...e, ...given(edit) }) as Stage);
    case 'set_split':
      return onElement(model, edit.split, (e) => {
        const { law, position, ...rest } = given(edit);
        const join = { ...(e as Split).join, ...given({ law, position }) };
        return { ...e, ...rest, join } as Split;
      });
    case 'set_branch':
      return everySplit(model, (split) => ({
        ...split,
        branches: split.branches.map((b) => (b.id === edit.branch ? { ...b, ...given(edit) } : b)),
      }));
    case 'set_lever':
      return {
        ...model,
        levers: model.levers.map((l) => (l.id === edit.lever ? { ...l, ...given(edit) } : l)),
      } as Session;
    default:
      return model;
  }
}

const WHERE = ['type', 'strip', 'to', 'stage', 'split', 'branch', 'lever'];

/** The fields of an edit that hold a value, without those that say where. */
function given(edit: object): Record<string, unknown> {
  return Object.fromEntries(
    Object.entries(edit).filter(([k, v]) => !WHERE.includes(k) && v !== null && v !== undefined),
  );
}

function onStrip(model: Session, id: string, change: (s: Strip) => Strip): Session {
  return { ...model, strips: model.strips.map((s) => (s.id === id ? change(s) : s)) };
}

function onElement(model: Session, id: string, change: (e: Element) => Element): Session {
  return everywhere(model, (e) => (e.id === id ? change(e) : e));
}

function everySplit(model: Session, change: (s: Split) => Split): Session {
  return everywhere(model, (e) => (isSplit(e) ? change(e) : e));
}

function everywhere(model: Session, change: (e: Element) => Element): Session {
  const inside = (chain: Element[]): Element[] =>
    chain.map((e) => {
      const changed = change(e);
      if (!isSplit(changed)) return changed;
      const parts = changed.branches.map((b) => ({ ...b, chain: inside(b.chain) }));
      return { ...changed, branches: parts };
    });
  return { ...model, strips: model.strips.map((s) => ({ ...s, chain: inside(s.chain) })) };
}

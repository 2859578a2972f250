import type {
  Delivery,
  PlayedAnswer,
  ProofRequest,
  ProofState,
  Service,
  StemsRequest,
  StemsWords,
  Target,
  Separation,
  ScanAnswer,
  AimWish,
  BroughtIn,
  Bundle,
  Catalogue,
  CompareRequest,
  Comparison,
  Edit,
  Figures,
  Hit,
  LabAnswer,
  LabRequest,
  Lane,
  LedgerAnswer,
  Params,
  Picture,
  PrintItem,
  PrintOptions,
  Readiness,
  RevisionItem,
  SessionItem,
  SessionState,
  SplitDrawing,
  StageDrawing,
  KeepRecipe,
  LibraryItem,
  RecipeWords,
} from './types';

/** What the server refused, in its own sentence. */
export class Refusal extends Error {}

async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  return (await (await ask(method, path, body)).json()) as T;
}

async function ask(method: string, path: string, body?: unknown): Promise<Response> {
  let answer: Response;
  try {
    answer = await fetch(`/api${path}`, {
      method,
      headers: body === undefined ? {} : { 'content-type': 'application/json' },
      body: body === undefined || typeof body === 'string' ? body : JSON.stringify(body),
    });
  } catch {
    throw new Refusal('The server cannot be reached. What it had confirmed is kept.');
  }
  if (!answer.ok) throw new Refusal(await refusalOf(answer));
  return answer;
}

async function refusalOf(answer: Response): Promise<string> {
  try {
    return ((await answer.json()) as { error: string }).error;
  } catch {
    return `The server answered ${answer.status}.`;
  }
}

function unpacked(data: ArrayBuffer): Picture {
  const split = new Uint8Array(data).indexOf(10) + 1;
  const head = JSON.parse(new TextDecoder().decode(data.slice(0, split))) as Picture & {
    sizes: number[];
  };
  let at = split;
  const [before, after, body, reduction, level] = head.sizes.map((size) => {
    const series = new Float32Array(data, at, size);
    at += size * 4;
    return series;
  });
  const none = new Float32Array(0);
  return {
    ...head,
    before: before ?? none,
    after: after ?? none,
    body: body ?? none,
    reduction: reduction ?? none,
    level: level ?? none,
  };
}

export const api = {
  readiness: () => call<Readiness>('GET', '/readiness'),
  catalogue: () => call<Catalogue>('GET', '/catalogue'),
  drawing: (kind: string, params: Params, bpm: number | null, rate: number) =>
    call<{ drawing: StageDrawing }>('POST', '/drawing', { kind, params, bpm, rate }),
  sessions: () => call<SessionItem[]>('GET', '/sessions'),
  newSession: (name: string, bpm: number | null) =>
    call<SessionState>('POST', '/sessions', { name, bpm }),
  demo: () => call<SessionState>('POST', '/demo'),
  session: (id: number) => call<SessionState>('GET', `/sessions/${id}`),
  bundle: (id: number, prints: boolean) =>
    call<Bundle>('POST', `/sessions/${id}/bundle?prints=${prints}`),
  removeSession: (id: number) => call<null>('DELETE', `/sessions/${id}`),
  edit: (id: number, base: number, edits: Edit[]) =>
    call<SessionState>('POST', `/sessions/${id}/edits`, { base, edits }),
  delivery: () => call<Delivery>('GET', '/delivery'),
  keepTarget: (target: Target) => call<Delivery>('PUT', '/targets', target),
  removeTarget: (name: string) => call<Delivery>('DELETE', `/targets/${encodeURIComponent(name)}`),
  proof: (id: number) => call<ProofState>('GET', `/sessions/${id}/proof`),
  prove: (id: number, wanted: ProofRequest) =>
    call<ProofState>('POST', `/sessions/${id}/proof`, wanted),
  stopProof: (id: number) => call<ProofState>('DELETE', `/sessions/${id}/proof`),
  played: (id: number, service: Service) =>
    call<PlayedAnswer>('POST', `/sessions/${id}/proof/played`, service),
  undo: (id: number) => call<SessionState>('POST', `/sessions/${id}/undo`),
  redo: (id: number) => call<SessionState>('POST', `/sessions/${id}/redo`),
  revisions: (id: number) => call<RevisionItem[]>('GET', `/sessions/${id}/revisions`),
  nameRevision: (id: number, revision: number, name: string | null) =>
    call<null>('PUT', `/sessions/${id}/revisions/${revision}/name`, { name }),
  backTo: (id: number, revision: number) =>
    call<SessionState>('POST', `/sessions/${id}/revisions/${revision}/back`),
  picture: async (
    id: number,
    strip: string,
    at: string,
    begin: number,
    end: number,
    columns: number,
  ) => {
    const query = `at=${at}&begin=${begin}&end=${end}&columns=${columns}`;
    const answer = await ask('GET', `/sessions/${id}/strips/${strip}/picture?${query}`);
    return unpacked(await answer.arrayBuffer());
  },
  lab: (id: number, wish: LabRequest) => call<LabAnswer>('POST', `/sessions/${id}/lab`, wish),
  hits: (id: number, strip: string, at: string, before: number) =>
    call<Hit[]>('GET', `/sessions/${id}/strips/${strip}/hits?at=${at}&before=${before}`),
  reports: (id: number, strip: string, at: string, names: string[], columns: number) =>
    call<Record<string, number[]>>(
      'GET',
      `/sessions/${id}/strips/${strip}/reports?at=${at}&columns=${columns}` +
        names.map((name) => `&name=${name}`).join(''),
    ),
  openings: (id: number, strip: string, at: string) =>
    call<{ frames: number[] }>('GET', `/sessions/${id}/strips/${strip}/openings?at=${at}`),
  threshold: (id: number, strip: string, at: string, frames: number[]) =>
    call<{ threshold_db: number | null; done: number }>(
      'POST',
      `/sessions/${id}/strips/${strip}/threshold?at=${at}`,
      { frames },
    ),
  ledger: (id: number, strip: string, at: string, begin: number, end: number) =>
    call<LedgerAnswer>(
      'GET',
      `/sessions/${id}/strips/${strip}/ledger?at=${at}&begin=${begin}&end=${end}`,
    ),
  compare: (id: number, wish: CompareRequest) =>
    call<Comparison>('POST', `/sessions/${id}/compare`, wish),
  guessing: (rounds: number, choices: number) =>
    call<[number, number][]>('GET', `/guessing?rounds=${rounds}&choices=${choices}`),
  differences: (id: number, revision: number) =>
    call<string[]>('GET', `/sessions/${id}/revisions/${revision}/differences`),
  split: (id: number, name: string) => call<SplitDrawing>('GET', `/sessions/${id}/splits/${name}`),
  lanes: (id: number) => call<Lane[]>('GET', `/sessions/${id}/lanes`),
  aim: (id: number, wish: AimWish) =>
    call<{ number: number }>('POST', `/sessions/${id}/aims`, wish),
  scan: (id: number, wish: { stage: string; begin: number; end: number }) =>
    call<ScanAnswer>('POST', `/sessions/${id}/scans`, wish),
  stopScans: (id: number) => call<null>('DELETE', `/sessions/${id}/scans`),
  gating: (id: number, marks: { stage: string; keep: number[]; refuse: number[] }) =>
    call<Separation>('POST', `/sessions/${id}/gatings`, marks),
  stopAim: (number: number) => call<null>('DELETE', `/aims/${number}`),
  referenceFigures: (id: number, reference: string) =>
    call<Figures>('GET', `/sessions/${id}/references/${reference}`),
  recipes: () => call<LibraryItem[]>('GET', '/recipes'),
  keepRecipe: (id: number, wish: KeepRecipe) =>
    call<LibraryItem>('POST', `/sessions/${id}/recipes`, wish),
  changeRecipe: (id: string, words: RecipeWords) =>
    call<LibraryItem>('PUT', `/recipes/${id}`, words),
  removeRecipe: (id: string) => call<null>('DELETE', `/recipes/${id}`),
  /** Takes a recipe file as it is: what is wrong in it is said with its line. */
  bringRecipe: (text: string) => call<LibraryItem>('POST', '/recipes', text),
  prints: (id: number) => call<PrintItem[]>('GET', `/sessions/${id}/prints`),
  print: (id: number, options: PrintOptions) =>
    call<PrintItem>('POST', `/sessions/${id}/prints`, options),
  printStems: (id: number, wanted: StemsRequest) =>
    call<PrintItem[]>('POST', `/sessions/${id}/stems`, wanted),
  stemsWords: (id: number) => call<StemsWords>('GET', `/sessions/${id}/stems`),
  printSooner: (print: number) => call<null>('POST', `/prints/${print}/sooner`),
  printLater: (print: number) => call<null>('POST', `/prints/${print}/later`),
  printDifferences: (print: number) => call<string[]>('GET', `/prints/${print}/differences`),
  cancelPrint: (print: number) => call<null>('DELETE', `/prints/${print}`),
};

/** Sends one file; `progress` is told the share that has left this page. */
function send<T extends object>(
  path: string,
  file: File,
  progress: (share: number) => void,
): Promise<T> {
  return new Promise((done, failed) => {
    const request = new XMLHttpRequest();
    request.open('PUT', `/api${path}?name=${encodeURIComponent(file.name)}`);
    request.upload.onprogress = (e) => progress(e.loaded / Math.max(e.total, 1));
    request.onerror = () => failed(new Refusal(`${file.name}: the server cannot be reached.`));
    request.onload = () => {
      let answer: T | { error: string };
      try {
        answer = JSON.parse(request.responseText) as typeof answer;
      } catch {
        answer = { error: `${file.name}: the server answered ${request.status}.` };
      }
      if ('error' in answer) failed(new Refusal(answer.error));
      else done(answer);
    };
    request.send(file);
  });
}

export const bringIn = (id: number, file: File, progress: (share: number) => void) =>
  send<BroughtIn>(`/sessions/${id}/audio`, file, progress);

export const bringReference = (id: number, file: File, progress: (share: number) => void) =>
  send<SessionState>(`/sessions/${id}/references`, file, progress);

export const openBundle = (file: File, progress: (share: number) => void) =>
  send<SessionState>('/bundles', file, progress);

export const bringToProve = (id: number, file: File) =>
  send<{ file: string }>(`/sessions/${id}/proof/file`, file, () => undefined);

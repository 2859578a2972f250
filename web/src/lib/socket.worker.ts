/** Owns the WebSocket, so that a busy page loses no sound: pieces go straight to the worklet. */
import { parse, type Pieces, type Ready, type Reported, type Used } from './wire';

let socket: WebSocket | null = null;
let worklet: MessagePort | null = null;
const waiting: string[] = [];

type FromPage =
  | { type: 'connect'; url: string }
  | { type: 'worklet'; port: MessagePort }
  | { type: 'send'; text: string };

self.onmessage = (event: MessageEvent<FromPage>) => {
  const message = event.data;
  if (message.type === 'connect') connect(message.url);
  else if (message.type === 'send') send(message.text);
  else {
    worklet = message.port;
    worklet.onmessage = (e: MessageEvent<Used>) => used(e.data);
    if (ahead) worklet.postMessage(ahead);
  }
};

function connect(url: string): void {
  socket = new WebSocket(url);
  socket.binaryType = 'arraybuffer';
  socket.onopen = () => {
    worklet?.postMessage({ type: 'stand', epoch: 0, playing: false, anew: true });
    self.postMessage({ type: 'connected' });
    for (const text of waiting.splice(0)) socket?.send(text);
  };
  socket.onclose = () => {
    self.postMessage({ type: 'gone' });
    setTimeout(() => connect(url), 1000);
  };
  socket.onmessage = (event: MessageEvent<string | ArrayBuffer>) => {
    if (typeof event.data === 'string') text(event.data);
    else sound(event.data);
  };
}

/** What the engine said last of how far ahead it computes; a worklet may come later. */
let ahead: Ready | null = null;

/** Blocks missed since the page was opened, and what of them was before this session. */
let missedInAll = 0;
let missedBefore = 0;

function send(text: string): void {
  if (text.startsWith('{"type":"open"')) {
    missedBefore = missedInAll;
    // What the session before still has on its way is not waited for, and not missed.
    worklet?.postMessage({ type: 'stand', epoch: 0, playing: false, anew: true });
  }
  if (socket?.readyState === WebSocket.OPEN) socket.send(text);
  else if (!text.includes('"played"')) waiting.push(text);
}

function text(data: string): void {
  const event = JSON.parse(data) as {
    type: string;
    epoch?: number;
    playing?: boolean;
    ms?: number;
  };
  if (event.type === 'ahead' && event.ms) {
    ahead = { type: 'ahead', ms: event.ms };
    worklet?.postMessage(ahead);
  }
  if (event.type === 'transport') {
    worklet?.postMessage({ type: 'stand', epoch: event.epoch, playing: event.playing });
  }
  self.postMessage({ type: 'event', event });
}

function sound(data: ArrayBuffer): void {
  const blocks = parse(data);
  const reports = blocks.map(({ piece, report }) => ({
    epoch: piece.epoch,
    again: piece.again,
    frame: piece.frame,
    frames: piece.sound.length / 4,
    report,
  }));
  const pieces = blocks.map(({ piece }) => piece);
  const played: Pieces = { type: 'pieces', pieces };
  worklet?.postMessage(
    played,
    pieces.map((piece) => piece.sound.buffer),
  );
  const reported: Reported = { type: 'reported', reports };
  self.postMessage(reported);
}

function used(message: Used): void {
  const { epoch, frames, frame } = message;
  missedInAll = message.missed;
  const missed = missedInAll - missedBefore;
  const at = frame >= 0 ? Math.round(frame) : null;
  send(JSON.stringify({ type: 'played', epoch, frames, frame: at, missed }));
  self.postMessage(message);
}

/** Asks for one thing at a time, and once more when it was wanted again meanwhile: what comes last
 * is the newest. What cannot be had is asked for with the next change; whoever caused it says why.
 * pause_ms: so long after an answer the next one is asked for. leave: nobody is there to be told. */
export function newest(
  ask: () => Promise<void>,
  pause_ms = 0,
): (() => void) & { leave: () => void } {
  let asking = false;
  let again = false;
  let left = false;

  function want(): void {
    if (left) return;
    if (asking) {
      again = true;
      return;
    }
    asking = true;
    void ask()
      .catch(() => undefined)
      .finally(() => {
        asking = false;
        if (!again) return;
        again = false;
        setTimeout(want, pause_ms);
      });
  }
  want.leave = () => {
    left = true;
  };
  return want;
}

/** Returns what the browser keeps under a name; what cannot be read is as if it were not there. */
export function stored<T extends object>(name: string, otherwise: T): T {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(name) ?? 'null');
    const same = kept !== null && typeof kept === 'object';
    return same && Array.isArray(kept) === Array.isArray(otherwise) ? (kept as T) : otherwise;
  } catch {
    return otherwise;
  }
}

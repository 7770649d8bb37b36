/**
 * Tells of changes at once, and of the same again at most once in a while: where many come in a row, what they are of
 * would otherwise be asked for without an end. What is being asked for is asked for again when its answer is here.
 */
export function gather(tell: (key: string) => void, busy: (key: string) => boolean, every = 1000) {
  const waiting = new Map<string, boolean>(); // by key: whether it changed since it was told
  const look = (key: string) => {
    if (!waiting.get(key)) return void waiting.delete(key);
    if (!busy(key)) {
      waiting.set(key, false);
      tell(key);
    }
    setTimeout(look, every, key);
  };
  return (key: string) => {
    const known = waiting.has(key);
    waiting.set(key, true);
    if (!known) look(key);
  };
}

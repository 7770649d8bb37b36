import { useEffect, useRef, useState } from "react";

/**
 * What is typed into a field whose value the address keeps. The address follows when the typing rests: it is slower
 * than fingers, and a field that waited for it would lose letters.
 */
export function useTyped(kept: string, keep: (text: string) => void): [string, (text: string) => void] {
  const [text, setText] = useState(kept);
  const newest = useRef(keep);
  newest.current = keep;
  useEffect(() => {
    const t = setTimeout(() => newest.current(text), 250);
    return () => clearTimeout(t);
  }, [text]);
  return [text, setText];
}

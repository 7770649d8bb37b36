import { useSearchParams } from "react-router";

/** What a page keeps in its address, so that it can be linked to: reads a word of it, and changes one. */
export function useAddress(): [(key: string) => string, (key: string, value: string) => void] {
  const [params, setParams] = useSearchParams();
  const get = (key: string) => params.get(key) ?? "";
  const set = (key: string, value: string) =>
    setParams(
      (old) => {
        const next = new URLSearchParams(old);
        if (value) next.set(key, value);
        else next.delete(key);
        return next;
      },
      { replace: true },
    );
  return [get, set];
}

import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import type { Problem } from "../api/client";
import { signIn } from "../api/enter";
import { Trouble } from "../parts/ui";

export function SignIn({ refused }: { refused: Problem | undefined }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [token, setToken] = useState("");
  const [byToken, setByToken] = useState(false);
  const enter = useMutation({
    mutationFn: () => signIn(byToken ? { token } : { name, password }),
    onSuccess: () => queries.resetQueries(),
  });
  return (
    <main className="mx-auto mt-[14vh] max-w-md px-4">
      <h1 className="font-say text-3xl font-semibold">Candid Harbor</h1>
      <form
        className="mt-4"
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate();
        }}
      >
        {byToken ? (
          <>
            <label className="block font-semibold" htmlFor="token">
              Token
            </label>
            <input
              id="token"
              type="password"
              autoComplete="current-password"
              className="field w-full font-mono"
              value={token}
              onChange={(e) => setToken(e.target.value)}
              autoFocus
              required
            />
            <p className="my-2 text-sm text-faint">
              On the site's host, <code className="font-mono text-ink">candid token add NAME</code> prints a new one.
            </p>
          </>
        ) : (
          <>
            <label className="block font-semibold" htmlFor="name">
              Name
            </label>
            <input
              id="name"
              autoComplete="username"
              className="field w-full"
              value={name}
              onChange={(e) => setName(e.target.value)}
              autoFocus
              required
            />
            <label className="mt-3 block font-semibold" htmlFor="password">
              Password
            </label>
            <input
              id="password"
              type="password"
              autoComplete="current-password"
              className="field w-full"
              value={password}
              onChange={(e) => setPassword(e.target.value)}
              required
            />
          </>
        )}
        <div className="mt-4 flex items-baseline gap-4">
          <button className="press" disabled={enter.isPending}>
            Sign in
          </button>
          <button
            type="button"
            className="quiet text-sm"
            onClick={() => {
              setByToken(!byToken);
              enter.reset();
            }}
          >
            {byToken ? "by name and password instead" : "by a token instead"}
          </button>
        </div>
      </form>
      <Trouble error={enter.error ?? (enter.isIdle ? refused : undefined)} />
    </main>
  );
}

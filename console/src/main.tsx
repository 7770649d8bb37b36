import "@fontsource-variable/source-code-pro";
import "@fontsource-variable/source-sans-3";
import "@fontsource-variable/source-serif-4";
import "./style.css";

import { notifyManager, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";

import { App } from "./app";
import { enter } from "./api/enter";

const queries = new QueryClient({ defaultOptions: { queries: { staleTime: 5_000, retry: 1 } } });

// Answers that come within a frame are drawn together.
let came: (() => void)[] = [];
notifyManager.setScheduler((draw) => {
  if (came.push(draw) > 1) return;
  requestAnimationFrame(() => {
    const all = came;
    came = [];
    all.forEach((one) => one());
  });
});

void enter().then((refused) =>
  createRoot(document.getElementById("root")!).render(
    <QueryClientProvider client={queries}>
      <BrowserRouter>
        <App refused={refused} />
      </BrowserRouter>
    </QueryClientProvider>,
  ),
);

/** What the server has told, kept once for all who show it. */

import { QueryCache, QueryClient } from "@tanstack/vue-query";
import { Refusal } from "../api/client";
import { complain } from "../lib/complain";
import { missingIn, useAway } from "../stores/away";

/** Settings of every query and change: the server is near, so nothing waits for a network. */
const always = { networkMode: "always" } as const;

export const cache = new QueryClient({
  queryCache: new QueryCache({
    onError(problem) {
      const what = missingIn(problem);
      if (what) useAway().lost(what);
      else complain(problem);
    },
  }),
  defaultOptions: {
    queries: {
      ...always,
      // only news from the server makes it old
      staleTime: Infinity,
      refetchOnWindowFocus: false,
      retry: (count, problem) => count < 2 && !(problem instanceof Refusal && problem.status >= 400),
    },
    mutations: always,
  },
});

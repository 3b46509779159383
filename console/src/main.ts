import { QueryClient, VueQueryPlugin } from "@tanstack/vue-query";
import { createApp } from "vue";
import App from "./App.vue";
import { ProblemError } from "./api";
import { router } from "./router";
import "./style.css";

const queries = new QueryClient({
  defaultOptions: {
    // The service may be on this machine or this network: what the browser thinks of the internet says nothing about it.
    mutations: { networkMode: "always" },
    queries: {
      networkMode: "always",
      staleTime: 2_000,
      retry: (count, error) => count < 2 && !(error instanceof ProblemError && error.problem.status > 0),
    },
  },
});

createApp(App).use(router).use(VueQueryPlugin, { queryClient: queries }).mount("#app");

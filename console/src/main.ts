import "@fontsource-variable/hanken-grotesk";
import "@fontsource-variable/jetbrains-mono";
import "@/ui/style/tokens.css";
import "@/ui/style/base.css";
import { QueryClient, VueQueryPlugin } from "@tanstack/vue-query";
import { createApp } from "vue";
import App from "./App.vue";
import { problemOf } from "./api/problems";
import { router } from "./router";
import { keepFocus } from "./ui/page/keep-focus";
import { watchListKeys } from "./ui/page/list-keys";
import { watchTyping } from "./ui/use/unsaved";
import { watchTables } from "./ui/page/wide-tables";

const queryClient = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      // Offline is an answer that never comes: said, and not waited for.
      networkMode: "always",
      // What is refused stays refused; only an answer that never came, or a database away, is worth another try.
      retry: (count, error) => count < 2 && [0, 503].includes(problemOf(error).status),
    },
    mutations: { networkMode: "always" },
  },
});

watchTyping();
watchTables();
keepFocus();
watchListKeys();

createApp(App).use(router).use(VueQueryPlugin, { queryClient }).mount("#app");

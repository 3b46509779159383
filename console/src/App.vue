<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { client, ProblemError } from "./api";
import CommandPalette from "./components/CommandPalette.vue";
import ProofDialog from "./components/ProofDialog.vue";
import { may, me, reachesAll, whoAmI } from "./session";
import { dark, toggleTheme } from "./theme";

const route = useRoute();
const router = useRouter();
const trouble = ref("");
const open = computed(() => Boolean(route.meta.open));
const pages = computed<[string, string][]>(() => [
  ["/", "Estate"],
  ["/compare", "Compare"],
  ["/restores", "Restore desk"],
  ...((reachesAll() ? [["/routines", "Routines"], ["/stores", "Stores"]] : []) as [string, string][]),
  ["/drops", "Drops"],
  ["/kinds", "Kinds"],
  ...((reachesAll() ? [["/alerts", "Alerts"]] : []) as [string, string][]),
  ["/runs", "Log book"],
  ["/access", "Access"],
  ...((reachesAll() && may("auditor") ? [["/audit", "Audit"]] : []) as [string, string][]),
]);

watch(
  () => [route.path, route.matched.length],
  async () => {
    if (open.value || route.matched.length === 0) return;
    try {
      const signed = await whoAmI();
      trouble.value = "";
      if (signed.must_change && route.path !== "/account") await router.replace("/account");
    } catch (error) {
      if (error instanceof ProblemError && error.problem.status === 401) {
        await router.replace({ path: "/sign-in", query: { to: route.fullPath } });
      } else {
        trouble.value = "The service does not answer. Is it running?";
      }
    }
  },
  { immediate: true },
);

async function signOut(): Promise<void> {
  await client.DELETE("/api/v1/session");
  me.value = null;
  await router.push("/sign-in");
}
</script>

<template>
  <a href="#content" class="sr-only focus:not-sr-only">To the content</a>
  <RouterView v-if="open" />
  <div v-else class="mx-auto max-w-7xl px-4 pb-16">
    <header class="flex flex-wrap items-baseline gap-x-6 gap-y-1 border-b-2 border-ink py-3">
      <RouterLink to="/" class="font-mono text-lg font-semibold tracking-tight no-underline">fennox</RouterLink>
      <nav aria-label="Pages" class="flex flex-wrap gap-x-5">
        <RouterLink
          v-for="[to, title] in pages"
          :key="to"
          :to="to"
          class="no-underline decoration-ember decoration-2 hover:underline"
          active-class="page-active"
          exact-active-class="underline"
          >{{ title }}</RouterLink
        >
      </nav>
      <div class="ml-auto flex flex-wrap items-baseline gap-4 text-sm text-muted">
        <CommandPalette v-if="me" />
        <button type="button" class="cursor-pointer hover:text-ink" @click="toggleTheme">
          {{ dark ? "Light" : "Dark" }}
        </button>
        <RouterLink v-if="me" to="/account">{{ me.user }} ({{ me.role }})</RouterLink>
        <button v-if="me" type="button" class="cursor-pointer hover:text-ink" @click="signOut">Sign out</button>
      </div>
    </header>
    <main id="content" class="pt-5">
      <p v-if="trouble" role="alert" class="text-ember">{{ trouble }}</p>
      <RouterView v-if="me" :key="route.path" />
    </main>
    <ProofDialog v-if="me" />
  </div>
</template>

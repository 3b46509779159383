<script setup lang="ts">
import {
  Combobox,
  ComboboxInput,
  ComboboxOption,
  ComboboxOptions,
  Dialog,
  DialogPanel,
  DialogTitle,
} from "@headlessui/vue";
import { useQuery } from "@tanstack/vue-query";
import { computed, onBeforeUnmount, onMounted, ref } from "vue";
import { useRouter } from "vue-router";
import { client, get } from "../api";
import { when } from "../format";

interface Target {
  title: string;
  detail: string;
  to: string;
}

const router = useRouter();
const shown = ref(false);
const asked = ref("");
const systems = useQuery({ queryKey: ["system-names"], queryFn: () => get(client.GET("/api/v1/system-names")), enabled: shown });
const backups = useQuery({
  queryKey: ["backups", "palette"],
  queryFn: () => get(client.GET("/api/v1/backups", { params: { query: { limit: 200 } } })),
  enabled: shown,
});
const fixed: Target[] = [
  { title: "Estate", detail: "page", to: "/" },
  { title: "Compare", detail: "what changed", to: "/compare" },
  { title: "Restore desk", detail: "draft a restore", to: "/restores" },
  { title: "Routines", detail: "page", to: "/routines" },
  { title: "Add a routine", detail: "action", to: "/routines?add=1" },
  { title: "Stores", detail: "page", to: "/stores" },
  { title: "Drops", detail: "what systems push", to: "/drops" },
  { title: "Enrol a system", detail: "action", to: "/?enrol=1" },
  { title: "Alerts", detail: "who is alerted", to: "/alerts" },
  { title: "Kinds", detail: "what is taken of each kind of system", to: "/kinds" },
  { title: "Log book", detail: "page", to: "/runs" },
  { title: "Access", detail: "people, tokens, sessions, approvals", to: "/access" },
  { title: "Audit", detail: "who did what", to: "/audit" },
  { title: "Your password, passkeys and sessions", detail: "you", to: "/account" },
];
const found = computed<Target[]>(() => {
  const all: Target[] = [
    ...(systems.data.value?.items ?? []).map((s) => ({ title: s.name, detail: s.kind, to: `/systems/${s.name}` })),
    ...fixed,
    ...(backups.data.value?.items ?? []).map((b) => ({
      title: `${b.system} ${b.name || b.id.slice(0, 12)}`,
      detail: `backup of ${when(b.time)}`,
      to: `/restores?backup=${b.id}`,
    })),
  ];
  const words = asked.value.toLowerCase().split(/\s+/).filter(Boolean);
  return all.filter((t) => words.every((w) => `${t.title} ${t.detail}`.toLowerCase().includes(w))).slice(0, 12);
});

// The list marks an option only a frame after its key, so a quick Enter can find none marked: it means the first one.
function go(target: Target | null | undefined): void {
  if (!target) return;
  shown.value = false;
  void router.push(target.to);
}
function key(event: KeyboardEvent): void {
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k") {
    event.preventDefault();
    asked.value = "";
    shown.value = !shown.value;
  }
}
onMounted(() => window.addEventListener("keydown", key));
onBeforeUnmount(() => window.removeEventListener("keydown", key));
</script>

<template>
  <button type="button" class="cursor-pointer hover:text-ink" @click="shown = true">Find <kbd>Ctrl K</kbd></button>
  <Dialog :open="shown" class="relative z-20" @close="shown = false">
    <div class="fixed inset-0 bg-ink/40" aria-hidden="true" />
    <div class="fixed inset-x-4 top-20 mx-auto max-w-xl">
      <DialogPanel class="border border-line bg-panel p-3 text-ink shadow-lg">
        <DialogTitle class="sr-only">Find a system, backup or action</DialogTitle>
        <Combobox v-slot="{ activeOption }" :model-value="null" @update:model-value="go">
          <ComboboxInput
            class="field"
            placeholder="System, backup or action"
            aria-label="System, backup or action"
            autocomplete="off"
            @keydown.enter.capture="activeOption ?? go(found[0])"
            @change="asked = $event.target.value"
          />
          <ComboboxOptions static class="mt-2">
            <ComboboxOption v-for="item in found" :key="item.to" v-slot="{ active }" :value="item" as="template">
              <li class="flex cursor-pointer justify-between px-2 py-1" :class="active ? 'bg-ember-soft' : ''">
                <span>{{ item.title }}</span
                ><span class="text-muted">{{ item.detail }}</span>
              </li>
            </ComboboxOption>
          </ComboboxOptions>
        </Combobox>
        <p v-if="found.length === 0" class="px-2 py-1 text-muted">Nothing fits.</p>
      </DialogPanel>
    </div>
  </Dialog>
</template>

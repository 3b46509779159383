<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { computed, onMounted, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { client, get, ProblemError, type Schema } from "../api";
import ChangeList from "../components/ChangeList.vue";
import HistoryList from "../components/HistoryList.vue";
import ProblemNote from "../components/ProblemNote.vue";
import { some, when } from "../format";
import { may } from "../session";

const LIVE = "live";
const route = useRoute();
const router = useRouter();
const system = ref(String(route.query.system ?? ""));
const before = ref(String(route.query.before ?? ""));
const after = ref(String(route.query.after ?? ""));
const passphrase = ref("");
const only = ref(String(route.query.only ?? ""));
const sought = ref("");
const systems = useQuery({
  queryKey: ["system-names"],
  queryFn: () => get(client.GET("/api/v1/system-names")),
});
const backups = useQuery({
  queryKey: computed(() => ["backups", system.value]),
  queryFn: () => get(client.GET("/api/v1/backups", { params: { query: { system: system.value, limit: 500 } } })),
  enabled: computed(() => Boolean(system.value)),
});
const choices = computed(() => (backups.data.value?.items ?? []).filter((b) => b.purpose === "backup"));
const key = computed(() => passphrase.value || null);
const compare = useMutation({
  mutationFn: () => {
    const live = after.value === LIVE;
    const body = {
      before: before.value,
      after: live ? null : after.value,
      live,
      only: [only.value.trim() || "*"],
      passphrase: key.value,
    };
    return get(client.POST("/api/v1/comparisons", { body }));
  },
  onMutate: () => trace.reset(),
});
const trace = useMutation({
  mutationFn: (asked: { document: string; list: string; jsonpath: string; line: string }) =>
    get(client.POST("/api/v1/traces", { body: { system: system.value, ...asked, passphrase: key.value } })),
});
/** Whether the history was asked for in the form below, and not beside a change. */
const below = ref(true);
const asked = ref({ document: "", list: "", jsonpath: "", line: "" });
const locked = computed(() =>
  [compare.error.value, trace.error.value].some((e) => e instanceof ProblemError && e.slug === "passphrase-needed"),
);
const found = computed(() => compare.data.value?.comparison);
const parts = computed(() => {
  const groups: Record<string, Schema["DocumentChange"][]> = {};
  for (const document of found.value?.documents ?? []) {
    if (document.path.toLowerCase().includes(sought.value.toLowerCase())) (groups[document.part] ??= []).push(document);
  }
  return groups;
});
const said = computed(() => {
  if (!found.value) return "";
  const count = found.value.documents.length;
  const differ = count === 0 ? "No document differs" : count === 1 ? "One document differs" : `${count} documents differ`;
  const noise = found.value.noise ? `, ${found.value.noise} differ only in what means nothing` : "";
  return `${differ}, ${found.value.same} ${found.value.same === 1 ? "is" : "are"} equal${noise}.`;
});
const words = { added: "came", removed: "went", changed: "changed" } as const;

/** The newest two, unless the address says which. */
function choose(): void {
  const held = [...choices.value.map((b) => b.id), LIVE];
  if (!held.includes(after.value)) after.value = choices.value[0]?.id ?? "";
  if (!held.includes(before.value) || before.value === after.value) {
    const place = choices.value.findIndex((b) => b.id === after.value);
    before.value = choices.value[place + 1]?.id ?? choices.value[0]?.id ?? "";
  }
}
function start(): void {
  const query = { system: system.value, before: before.value, after: after.value };
  void router.replace({ path: "/compare", query: { ...query, ...(only.value && { only: only.value }) } });
  compare.mutate();
}
function history(document: string, list = ""): void {
  below.value = false;
  asked.value = { document, list, jsonpath: "", line: "" };
  trace.mutate(asked.value);
}
function look(): void {
  below.value = true;
  asked.value = { ...asked.value, list: "" };
  trace.mutate(asked.value);
}
/** An address that names two sides is compared at once. */
function begin(): void {
  if (!choices.value.length) return;
  choose();
  if (route.query.after && compare.status.value === "idle") compare.mutate();
}
watch(choices, begin);
watch(system, () => {
  compare.reset();
  trace.reset();
  sought.value = "";
});
watch(
  () => systems.data.value,
  (held) => {
    if (!system.value && held?.items.length) system.value = held.items[0]!.name;
  },
);
onMounted(() => {
  if (!system.value && systems.data.value?.items.length) system.value = systems.data.value.items[0]!.name;
  begin();
});
</script>

<template>
  <h1>Compare</h1>
  <p v-if="!may('operator')" class="mt-2">
    What a configuration contains is for operators and administrators. Ask one of them to compare.
  </p>
  <template v-else>
    <form class="mt-3 flex flex-wrap items-end gap-3" @submit.prevent="start">
      <div>
        <label class="label" for="compare-system">System</label>
        <select id="compare-system" v-model="system" class="field">
          <option v-for="item in systems.data.value?.items" :key="item.id" :value="item.name">{{ item.name }}</option>
        </select>
      </div>
      <div>
        <label class="label" for="compare-before">From</label>
        <select id="compare-before" v-model="before" class="field">
          <option v-for="backup in choices" :key="backup.id" :value="backup.id">
            {{ when(backup.time) }}{{ backup.name ? `, ${backup.name}` : "" }}{{ backup.unchanged ? ", unchanged" : "" }}
          </option>
        </select>
      </div>
      <div>
        <label class="label" for="compare-after">To</label>
        <select id="compare-after" v-model="after" class="field">
          <option :value="LIVE">the system as it is now</option>
          <option v-for="backup in choices" :key="backup.id" :value="backup.id">
            {{ when(backup.time) }}{{ backup.name ? `, ${backup.name}` : "" }}{{ backup.unchanged ? ", unchanged" : "" }}
          </option>
        </select>
      </div>
      <div>
        <label class="label" for="compare-only">Only documents like</label>
        <input id="compare-only" v-model="only" class="field" placeholder="/etc/nginx/*" autocomplete="off" />
      </div>
      <div v-if="locked">
        <label class="label" for="compare-passphrase">Passphrase of the store</label>
        <input id="compare-passphrase" v-model="passphrase" class="field" type="password" autocomplete="off" />
      </div>
      <button class="button" :disabled="!before || !after || before === after || compare.isPending.value">Compare</button>
    </form>
    <p v-if="backups.data.value && !choices.length" class="mt-3">
      There is no backup of {{ system }} yet. <RouterLink :to="`/systems/${system}`">Take the first one.</RouterLink>
    </p>
    <p v-if="compare.isPending.value" role="status" class="mt-3 text-muted">
      {{ after === LIVE ? "The system is read once; nothing of it is kept …" : "Both backups are read …" }}
    </p>
    <ProblemNote :error="compare.error.value" />

    <div v-if="found" class="mt-5">
      <div class="flex flex-wrap items-baseline gap-x-6 gap-y-2">
        <p role="status" class="text-lg">{{ said }}</p>
        <label v-if="found.documents.length > 5" class="text-sm text-muted"
          >Only paths with <input v-model="sought" class="field ml-1 inline w-56" />
        </label>
      </div>
      <p v-for="part in found.only_left_parts" :key="part">Only the first holds the part {{ part }}; it is not compared.</p>
      <p v-for="part in found.only_right_parts" :key="part">
        Only the second holds the part {{ part }}; it is not compared.
      </p>
      <section v-for="(documents, part) in parts" :key="part">
        <h2>{{ part }}</h2>
        <ul class="divide-y divide-line border-y border-line">
          <li v-for="document in documents" :key="document.path" class="py-2">
            <div class="flex flex-wrap items-baseline gap-x-3">
              <span class="w-20 text-sm font-semibold" :class="document.what === 'removed' ? 'text-ember' : 'text-slate'">{{
                words[document.what]
              }}</span>
              <code class="break-all">{{ document.path }}</code>
              <button
                type="button"
                class="ml-auto cursor-pointer text-sm underline"
                :aria-label="`History of ${document.path}`"
                @click="history(document.path)"
              >
                history
              </button>
            </div>
            <ChangeList :change="document" class="mt-1" />
            <div v-if="!below && asked.document === document.path && trace.data.value" class="mt-2">
              <HistoryList :traced="trace.data.value" :listed="false" :valued="false" />
            </div>
          </li>
        </ul>
      </section>
      <section v-if="found.lists.length">
        <h2>Counted</h2>
        <ul class="divide-y divide-line border-y border-line">
          <li v-for="list in found.lists" :key="list.name" class="py-2">
            <div class="flex flex-wrap items-baseline gap-x-3">
              <b class="w-40">{{ list.name }}</b>
              <span v-if="list.added.length">came: {{ some(list.added, 12) }}</span>
              <span v-if="list.removed.length" class="text-ember">went: {{ some(list.removed, 12) }}</span>
              <button
                type="button"
                class="ml-auto cursor-pointer text-sm underline"
                :aria-label="`History of ${list.name}`"
                @click="history('', list.name)"
              >
                history
              </button>
            </div>
            <div v-if="!below && asked.list === list.name && trace.data.value" class="mt-2">
              <HistoryList :traced="trace.data.value" listed :valued="false" />
            </div>
          </li>
        </ul>
      </section>
      <p v-if="found.other_lists.length" class="text-muted">
        Not compared, as the kind has changed and draws them by other rules: {{ some(found.other_lists, 12) }}.
      </p>
      <p v-if="found.other_sources.length" class="text-muted">
        Read by other rules on each side, as the kind has changed, so that what came or went may be the rules’ doing:
        {{ some(found.other_sources, 12) }}.
      </p>
      <ProblemNote v-if="!below" :error="trace.error.value" />
    </div>

    <section v-if="system && choices.length" class="mt-8 border-t border-line pt-1">
      <h2>Since when does something stand as it does?</h2>
      <form
        class="flex flex-wrap items-end gap-3"
        @submit.prevent="look"
      >
        <div class="grow">
          <label class="label" for="trace-document">Document</label>
          <input id="trace-document" v-model="asked.document" class="field font-mono" placeholder="/etc/hosts" required />
        </div>
        <div class="grow">
          <label class="label" for="trace-line">Only lines with</label>
          <input id="trace-line" v-model="asked.line" class="field" :disabled="Boolean(asked.jsonpath)" />
        </div>
        <div class="grow">
          <label class="label" for="trace-path">Or values at a JSONPath</label>
          <input
            id="trace-path"
            v-model="asked.jsonpath"
            class="field font-mono"
            placeholder="$.subnets[*].name"
            :disabled="Boolean(asked.line)"
          />
        </div>
        <button class="button" :disabled="trace.isPending.value">Look through all backups</button>
      </form>
      <ProblemNote v-if="below" :error="trace.error.value" />
      <div v-if="trace.data.value && below" class="mt-3">
        <HistoryList :traced="trace.data.value" :listed="false" :valued="Boolean(asked.jsonpath || asked.line)" />
      </div>
    </section>
  </template>
</template>

<script setup lang="ts">
import { useInfiniteQuery, useMutation } from "@tanstack/vue-query";
import { computed, reactive } from "vue";
import { client, get, type Schema } from "../api";
import ProblemNote from "../components/ProblemNote.vue";
import { when } from "../format";

type Entry = Schema["AuditEntry"];
const wanted = reactive({ by: "", about: "", action: "", address: "", since: "", until: "" });
const query = computed(() => ({
  by: wanted.by || undefined,
  about: wanted.about || undefined,
  action: wanted.action || undefined,
  address: wanted.address || undefined,
  since: wanted.since ? new Date(wanted.since).toISOString() : undefined,
  until: wanted.until ? new Date(wanted.until).toISOString() : undefined,
}));
const entries = useInfiniteQuery({
  queryKey: computed(() => ["audit", query.value]),
  queryFn: ({ pageParam }) =>
    get(client.GET("/api/v1/audit", { params: { query: { ...query.value, limit: 100, before: pageParam } } })),
  initialPageParam: undefined as number | undefined,
  getNextPageParam: (last) => (last.after ? Number(last.after) : undefined),
});
const shown = computed(() => entries.data.value?.pages.flatMap((page) => page.items) ?? []);
const check = useMutation({ mutationFn: () => get(client.GET("/api/v1/audit/check")) });
/** All that fits, as lines of JSON, in a file. */
const take = useMutation({
  mutationFn: async () => {
    const all: Entry[] = [];
    let before: number | undefined;
    do {
      const page = await get(client.GET("/api/v1/audit", { params: { query: { ...query.value, limit: 500, before } } }));
      all.push(...page.items);
      before = page.after ? Number(page.after) : undefined;
    } while (before !== undefined);
    const file = new Blob([all.map((one) => `${JSON.stringify(one)}\n`).join("")], { type: "application/jsonl" });
    const link = document.createElement("a");
    link.href = URL.createObjectURL(file);
    link.download = "fennox-audit.jsonl";
    link.click();
    URL.revokeObjectURL(link.href);
  },
});
function details(entry: Entry): string {
  return Object.entries(entry.details)
    .filter(([, value]) => value)
    .map(([key, value]) => `${key} ${value}`)
    .join(", ");
}
</script>

<template>
  <div class="flex flex-wrap items-baseline gap-4">
    <h1>Audit</h1>
    <p class="text-muted">Who did what, from where, and what was refused.</p>
    <button type="button" class="button ml-auto" :disabled="check.isPending.value" @click="check.mutate()">
      Check its chain
    </button>
    <button type="button" class="cursor-pointer text-slate hover:underline" :disabled="take.isPending.value" @click="take.mutate()">
      Take these out as a file
    </button>
  </div>
  <div v-if="check.data.value" role="status" class="mt-3 border-l-2 py-1 pl-3" :class="check.data.value.faults.length ? 'border-ember' : 'border-good'">
    <p v-for="fault in check.data.value.faults" :key="fault" class="text-ember">{{ fault }}</p>
    <p>
      {{ check.data.value.entries }} entries.
      {{ check.data.value.faults.length ? "Their chain is broken." : "Each holds the digest of the one before." }}
      <template v-if="check.data.value.backup">
        {{ check.data.value.held }} of them were compared with Fennox's own backup
        {{ check.data.value.backup.slice(0, 12) }}.
      </template>
      <template v-else>They were compared with no backup: {{ check.data.value.not_checked }}</template>
    </p>
  </div>
  <form class="mt-4 grid grid-cols-2 gap-x-4 md:grid-cols-6" @submit.prevent>
    <div><label class="label" for="by">Who</label><input id="by" v-model.lazy.trim="wanted.by" class="field" /></div>
    <div><label class="label" for="about">About</label><input id="about" v-model.lazy.trim="wanted.about" class="field" /></div>
    <div><label class="label" for="action">Did</label><input id="action" v-model.lazy.trim="wanted.action" class="field" placeholder="refused" /></div>
    <div><label class="label" for="address">From</label><input id="address" v-model.lazy.trim="wanted.address" class="field font-mono" /></div>
    <div><label class="label" for="since">Since</label><input id="since" v-model.lazy="wanted.since" type="datetime-local" class="field" /></div>
    <div><label class="label" for="until">Until</label><input id="until" v-model.lazy="wanted.until" type="datetime-local" class="field" /></div>
  </form>
  <ProblemNote :error="entries.error.value ?? check.error.value ?? take.error.value" />
  <div v-if="shown.length" class="scroll mt-4" tabindex="0">
    <table>
      <thead>
        <tr>
          <th>At</th>
          <th>Who</th>
          <th>From</th>
          <th>Did</th>
          <th>Details</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="entry in shown" :key="entry.id">
          <td class="whitespace-nowrap">{{ when(entry.at) }}</td>
          <td class="whitespace-nowrap">{{ entry.by }}</td>
          <td><code>{{ entry.address || "–" }}</code></td>
          <td class="md:whitespace-nowrap">{{ entry.action }} {{ entry.noun }} {{ entry.name.slice(0, 40) }}</td>
          <td class="text-sm text-muted">{{ details(entry) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-else-if="entries.data.value" class="mt-4 text-muted">Nothing like that was done.</p>
  <button v-if="entries.hasNextPage.value" type="button" class="button mt-4" :disabled="entries.isFetchingNextPage.value" @click="entries.fetchNextPage()">
    Older entries
  </button>
</template>

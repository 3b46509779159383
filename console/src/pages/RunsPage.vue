<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { client, get, type Schema } from "../api";
import ProblemNote from "../components/ProblemNote.vue";
import StateWord from "../components/StateWord.vue";
import { span, when } from "../format";

type Run = Schema["RunShown"];
const state = ref("");
const kind = ref("");
const runs = useQuery({
  queryKey: computed(() => ["runs", state.value, kind.value]),
  queryFn: () =>
    get(
      client.GET("/api/v1/runs", {
        params: { query: { limit: 100, state: state.value || undefined, kind: kind.value || undefined } },
      }),
    ),
  refetchInterval: 3_000,
});
function took(run: Run): string {
  return run.started && run.ended ? span((Date.parse(run.ended) - Date.parse(run.started)) / 1000) : "–";
}
</script>

<template>
  <h1>Log book</h1>
  <div class="mt-4 mb-2 flex flex-wrap items-end gap-4">
    <h2 class="m-0!">Runs</h2>
    <label class="ml-auto flex items-baseline gap-2 text-sm text-muted"
      >State
      <select v-model="state" class="field w-auto">
        <option value="">any</option>
        <option v-for="word in ['active', 'waiting', 'done', 'failed', 'stopped']" :key="word">{{ word }}</option>
      </select></label
    >
    <label class="flex items-baseline gap-2 text-sm text-muted"
      >Kind
      <select v-model="kind" class="field w-auto">
        <option value="">any</option>
        <option v-for="word in ['take', 'look', 'copy', 'draft', 'restore', 'scrub', 'verify', 'sweep', 'adopt', 'rekey']" :key="word">{{ word }}</option>
      </select></label
    >
  </div>
  <ProblemNote :error="runs.error.value" />
  <div v-if="runs.data.value?.items.length" class="scroll" tabindex="0">
    <table>
      <thead>
        <tr>
          <th>Begun</th>
          <th>What</th>
          <th>Of</th>
          <th>By</th>
          <th>State</th>
          <th>Took</th>
          <th>Outcome</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="run in runs.data.value.items" :key="run.id">
          <td class="whitespace-nowrap">
            <RouterLink :to="`/runs/${run.id}`">{{ when(run.started ?? run.created) }}</RouterLink>
          </td>
          <td>{{ run.kind }}</td>
          <td>
            <RouterLink v-if="run.system" :to="`/systems/${run.system}`">{{ run.system }}</RouterLink>
            <RouterLink v-else-if="run.store" :to="`/stores/${run.store}`">{{ run.store }}</RouterLink>
          </td>
          <td>{{ run.by }}</td>
          <td><StateWord :state="run.state === 'waiting' ? 'waiting for you' : run.state" /></td>
          <td>{{ took(run) }}</td>
          <td>
            {{ run.outcome }}<span v-if="run.odd" class="ml-2 font-semibold text-warn" :title="run.odd">unusual</span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-else-if="runs.data.value" class="text-muted">No run matches. Take a backup from a system's page.</p>
</template>

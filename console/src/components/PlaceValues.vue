<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { computed, reactive, ref, watch } from "vue";
import { client, get, type Schema } from "../api";
import { useFollowed } from "../follow";
import ChangeList from "./ChangeList.vue";
import ProblemNote from "./ProblemNote.vue";
import RunProgress from "./RunProgress.vue";

/** Values of the place in three columns; a person may choose others, and the sheet is drafted anew. */
const props = defineProps<{ sheet: string; placed: Schema["Sheet"]["placed"]; open: boolean }>();
const emit = defineEmits<{ drafted: [] }>();
const whose = { backup: "the backup's", target: "the target's", given: "a new value" } as const;
const rows = computed(() =>
  props.placed.values.flatMap((value) =>
    value.entries.map((entry) => ({
      value,
      entry,
      keyed: value.whole || value.entries.length === 1 ? value.name : `${value.name}[${entry.key || "1"}]`,
    })),
  ),
);
const chosen = reactive<Record<string, string>>({});
const written = reactive<Record<string, string>>({});
const choices = computed(() =>
  Object.fromEntries(
    Object.entries(chosen)
      .map(([name, choice]) => [name, choice === "given" ? (written[name] ?? "") : choice] as const)
      .filter(([, choice]) => choice !== ""),
  ),
);
const runId = ref<string | null>(null);
const { run, now } = useFollowed(runId);
const redraft = useMutation({
  mutationFn: () =>
    get(
      client.POST("/api/v1/restores/{sheet}/redraft", {
        params: { path: { sheet: props.sheet } },
        body: { place: choices.value },
      }),
    ),
  onSuccess: (started) => {
    runId.value = started.id;
  },
});
watch(run, (seen) => {
  if (seen?.state !== "done") return;
  for (const name of Object.keys(chosen)) delete chosen[name];
  emit("drafted");
});
</script>

<template>
  <template v-if="placed.values.length">
    <h2>Values of the place</h2>
    <p class="text-muted">
      What belongs to a machine and its site. The purpose of the restore decides whose is written, unless a person chose.
    </p>
    <div class="scroll" tabindex="0">
      <table>
        <thead>
          <tr>
            <th>Value</th>
            <th>In the backup</th>
            <th>On the target now</th>
            <th>Afterwards</th>
            <th>Whose</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="row in rows" :key="`${row.value.name} ${row.entry.document} ${row.entry.key}`">
            <td>
              {{ row.value.title }}
              <code class="block text-muted">{{
                row.entry.key && row.entry.key !== row.entry.document ? row.entry.key : row.entry.document
              }}</code>
            </td>
            <td class="break-words">{{ row.entry.backup ?? "none" }}</td>
            <td class="break-words">{{ row.entry.target ?? "none" }}</td>
            <td class="break-words font-semibold">{{ row.entry.after ?? "none" }}</td>
            <td>
              {{ whose[row.value.choice] }}<span v-if="row.value.chosen" class="text-sm text-muted">, chosen</span>
              <template v-if="open">
                <select
                  v-model="chosen[row.keyed]"
                  class="field mt-1"
                  :aria-label="`Whose ${row.value.title} (${row.entry.key || row.entry.document})`"
                >
                  <option :value="undefined">as it is</option>
                  <option value="target">the target's</option>
                  <option value="backup">the backup's</option>
                  <option v-if="!row.value.whole" value="given">a new value</option>
                </select>
                <input
                  v-if="chosen[row.keyed] === 'given'"
                  v-model="written[row.keyed]"
                  class="field mt-1 font-mono"
                  :aria-label="`New value of ${row.value.title}`"
                />
              </template>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="open && Object.keys(choices).length" class="mt-3">
      <button type="button" class="button" :disabled="redraft.isPending.value" @click="redraft.mutate()">
        Draft anew with these choices
      </button>
      <span class="ml-3 text-sm text-muted">Changes nothing.</span>
    </p>
    <ProblemNote :error="redraft.error.value" />
    <RunProgress v-if="run && run.state !== 'done'" class="mt-2" :run="run" :now="now" />
    <p v-if="placed.kept.length" class="mt-2 text-sm text-muted">
      Kept as on the target: <code v-for="one in placed.kept" :key="one.path" class="mr-2">{{ one.path }}</code>
    </p>
    <template v-if="placed.rewritten.length">
      <h3 class="mt-3">Documents rewritten for this</h3>
      <div v-for="one in placed.rewritten" :key="one.path" class="mt-1">
        <code>{{ one.path }}</code>
        <ChangeList :change="one.change" />
      </div>
    </template>
  </template>
</template>

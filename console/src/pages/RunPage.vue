<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute } from "vue-router";
import { client, get } from "../api";
import ProblemNote from "../components/ProblemNote.vue";
import RunProgress from "../components/RunProgress.vue";
import { useFollowed } from "../follow";
import { size, when } from "../format";
import { may } from "../session";

const id = ref<string | null>(String(useRoute().params.run));
const { run, log, now } = useFollowed(id);
const told = computed(() => log.value.filter((line) => line.level !== "expected"));
const expected = computed(() => log.value.filter((line) => line.level === "expected"));
const active = computed(() => run.value && ["queued", "running", "waiting"].includes(run.value.state));
const stop = useMutation({
  mutationFn: () => get(client.POST("/api/v1/runs/{run}/stop", { params: { path: { run: id.value ?? "" } } })),
});
</script>

<template>
  <template v-if="run">
    <div class="flex flex-wrap items-baseline gap-4">
      <h1>{{ run.kind[0]?.toUpperCase() + run.kind.slice(1) }} of {{ run.system ?? run.store }}</h1>
      <span class="text-muted">by {{ run.by }}, {{ when(run.created) }}, attempt {{ run.attempt }}</span>
      <button
        v-if="active && may('operator')"
        type="button"
        class="button button-ember ml-auto"
        :disabled="run.stop_asked || stop.isPending.value"
        @click="stop.mutate()"
      >
        {{ run.stop_asked ? "Stopping …" : "Stop" }}
      </button>
    </div>
    <ProblemNote :error="stop.error.value" />
    <RunProgress class="mt-3" :run="run" :now="now" />
    <p v-if="run.result?.kind === 'take'" class="mt-3">
      <template v-if="run.result.unchanged">Nothing had changed: one small object was written.</template>
      <template v-else
        >{{ run.result.objects }} objects with {{ size(run.result.new_bytes) }} were written to
        {{ run.store }}.</template
      >
      Backup <code>{{ run.result.backup.slice(0, 12) }}</code> is in the list of
      <RouterLink :to="`/systems/${run.system}`">{{ run.system }}</RouterLink
      >.
    </p>
    <p v-else-if="run.state === 'done' && run.outcome" class="mt-3">{{ run.outcome }}.</p>
    <p v-if="run.odd" class="mt-3 border-l-2 border-warn py-1 pl-3">Unusual: {{ run.odd }}.</p>
    <p v-if="run.sheet" class="mt-3">
      <RouterLink :to="`/restores/${run.sheet}`" class="button">To the run sheet</RouterLink>
    </p>
    <template v-if="told.length">
      <h2>Log</h2>
      <ul class="font-mono text-[13px]">
        <li v-for="line in told" :key="line.id" :class="{ 'text-warn': line.level !== 'info' }">
          {{ when(line.at) }} {{ line.level }}: {{ line.text }}
        </li>
      </ul>
    </template>
    <details v-if="expected.length" class="mt-3">
      <summary class="cursor-pointer text-muted">{{ expected.length }} messages that the kind expects</summary>
      <ul class="mt-1 font-mono text-[13px] text-muted">
        <li v-for="line in expected" :key="line.id">{{ line.text }}</li>
      </ul>
    </details>
  </template>
  <p v-else class="text-muted">Looking for the run …</p>
</template>

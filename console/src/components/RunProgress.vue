<script setup lang="ts">
import { computed } from "vue";
import type { Schema } from "../api";
import { size, span, when } from "../format";
import PassphraseForm from "./PassphraseForm.vue";
import StateWord from "./StateWord.vue";

const props = defineProps<{ run: Schema["RunShown"]; now: number }>();
const active = computed(() => ["queued", "running"].includes(props.run.state));
const gone = computed(() =>
  props.run.started ? (props.now - new Date(props.run.started).getTime()) / 1000 : 0,
);
const left = computed(() =>
  active.value && props.run.expected_seconds ? Math.max(0, props.run.expected_seconds - gone.value) : null,
);
const took = computed(() =>
  props.run.started && props.run.ended
    ? (new Date(props.run.ended).getTime() - new Date(props.run.started).getTime()) / 1000
    : null,
);
const shown = computed(() => (props.run.state === "waiting" ? "waiting for you" : props.run.state));
</script>

<template>
  <div aria-live="polite">
    <p>
      <StateWord :state="shown" />
      <template v-if="run.state === 'running'">: {{ run.step || "begins" }}</template>
      <template v-else-if="run.waits_for">: {{ run.waits_for }}</template>
      <template v-if="run.documents"> · {{ run.documents }} documents, {{ size(run.bytes) }}</template>
      <template v-if="left !== null"> · about {{ span(left) }} left</template>
      <template v-if="took !== null"> · took {{ span(took) }}</template>
    </p>
    <progress
      v-if="active"
      class="mt-1 h-1.5 w-full accent-slate"
      aria-label="Progress, by the time earlier runs took"
      :max="run.expected_seconds ?? undefined"
      :value="run.expected_seconds ? Math.min(gone, run.expected_seconds * 0.97) : undefined"
    />
    <p v-if="run.reason" class="mt-2 border-l-4 border-ember bg-ember-soft px-3 py-2">
      {{ run.reason }} <span class="text-muted">{{ run.remedy }}</span>
    </p>
    <PassphraseForm v-if="run.wants_passphrase" :run="run.id" />
    <ol class="mt-3 text-sm">
      <li v-for="step in run.steps" :key="step.started + step.title" class="flex gap-3 py-0.5">
        <span class="w-44 shrink-0 text-muted">{{ when(step.started) }}</span>
        <span>{{ step.title }}<template v-if="step.attempt > 1"> (attempt {{ step.attempt }})</template></span>
      </li>
    </ol>
  </div>
</template>

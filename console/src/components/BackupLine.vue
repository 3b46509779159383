<script setup lang="ts">
import { computed } from "vue";
import type { Schema } from "../api";
import { when } from "../format";

/** A system's backups on a line in time: tall marks changed something, short ones changed nothing. */
const props = defineProps<{ backups: Schema["BackupShown"][]; now: string }>();
const width = 1000;
const from = computed(() => Math.min(...props.backups.map((b) => new Date(b.time).getTime())));
const to = computed(() => Math.max(new Date(props.now).getTime(), from.value + 86_400_000));
const marks = computed(() =>
  props.backups.map((b) => ({
    id: b.id,
    x: 6 + ((new Date(b.time).getTime() - from.value) / (to.value - from.value)) * (width - 12),
    height: b.unchanged ? 10 : 26,
    look: b.purpose === "safety" || b.held ? "fill-ember" : b.expired ? "fill-line" : "fill-slate",
    text: `${when(b.time)}: ${b.unchanged ? "unchanged" : "changed"}${b.name ? `, ${b.name}` : ""}${b.expired ? ", marked to go" : ""}`,
  })),
);
const changed = computed(() => props.backups.filter((b) => !b.unchanged).length);
</script>

<template>
  <figure v-if="backups.length">
    <svg
      :viewBox="`0 0 ${width} 44`"
      class="w-full"
      role="img"
      :aria-label="`${backups.length} backups since ${when(new Date(from).toISOString())}, ${changed} of them changed something. The table below lists each.`"
    >
      <line x1="0" y1="34" :x2="width" y2="34" class="stroke-line" />
      <rect
        v-for="mark in marks"
        :key="mark.id"
        :x="mark.x - 2"
        :y="34 - mark.height"
        width="4"
        :height="mark.height"
        :class="mark.look"
      >
        <title>{{ mark.text }}</title>
      </rect>
    </svg>
    <figcaption class="flex justify-between text-sm text-muted">
      <span>{{ when(new Date(from).toISOString()) }}</span>
      <span>tall: something changed · short: unchanged · pale: marked to go</span>
      <span>now</span>
    </figcaption>
  </figure>
</template>

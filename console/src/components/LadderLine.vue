<script setup lang="ts">
import { computed } from "vue";
import type { Schema } from "../api";
import { when } from "../format";

/** What a ladder keeps, a line in time for each system: what stays, what an end is known of, and what goes now. */
const props = defineProps<{ systems: Schema["SystemPreview"][] }>();
const width = 1000;
const row = 26;
const shown = computed(() => props.systems.filter((system) => system.backups.length));
const times = computed(() => shown.value.flatMap((system) => system.backups.map((b) => new Date(b.time).getTime())));
const from = computed(() => Math.min(...times.value));
const to = computed(() => Math.max(...times.value, from.value + 86_400_000));
const lines = computed(() =>
  shown.value.map((system) => ({
    name: system.system,
    marks: system.backups.map((b) => ({
      id: b.backup,
      x: 4 + ((new Date(b.time).getTime() - from.value) / (to.value - from.value)) * (width - 8),
      height: b.goes ? 6 : b.goes_at ? 12 : 20,
      look: b.goes ? "fill-ember" : "fill-slate",
      text: `${when(b.time)}: ${b.goes ? "goes now" : b.kept_by.join(", ")}`,
    })),
    told: `${system.system}: ${system.backups.filter((b) => !b.goes).length} stay, ${system.backups.filter((b) => b.goes).length} go`,
  })),
);
</script>

<template>
  <figure v-if="lines.length" class="my-2">
    <div v-for="line in lines" :key="line.name" class="flex items-end gap-3">
      <span class="w-36 shrink-0 truncate text-sm" :title="line.name">{{ line.name }}</span>
      <svg :viewBox="`0 0 ${width} ${row}`" preserveAspectRatio="none" class="h-6 min-w-0 flex-1" role="img" :aria-label="line.told">
        <line x1="0" :x2="width" :y1="row - 2" :y2="row - 2" class="stroke-line" />
        <rect
          v-for="mark in line.marks"
          :key="mark.id"
          :x="mark.x - 2"
          :y="row - 2 - mark.height"
          width="4"
          :height="mark.height"
          :class="mark.look"
        >
          <title>{{ mark.text }}</title>
        </rect>
      </svg>
    </div>
    <figcaption class="ml-39 flex flex-wrap justify-between gap-x-4 text-sm text-muted">
      <span>{{ when(new Date(from).toISOString()) }}</span>
      <span>tall: stays, no end is known · middle: stays until its rung ends · short, red: goes now</span>
      <span>{{ when(new Date(to).toISOString()) }}</span>
    </figcaption>
  </figure>
</template>

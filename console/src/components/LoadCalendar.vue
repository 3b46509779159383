<script setup lang="ts">
import { computed } from "vue";
import type { Schema } from "../api";
import { span, when } from "../format";

/** The coming two weeks, a row a day, a cell an hour: the darker, the longer the runs of that hour are expected to take. */
const props = defineProps<{ coming: Schema["Coming"]; now: string }>();
const days = computed(() => {
  const cells = new Map<string, { runs: number; seconds: number }>();
  for (const item of props.coming.load) {
    const at = new Date(item.hour);
    cells.set(`${at.toDateString()}/${at.getHours()}`, { runs: item.runs, seconds: item.seconds });
  }
  return Array.from({ length: 14 }, (_, number) => {
    const day = new Date(Date.parse(props.now) + number * 86_400_000);
    const hours = Array.from({ length: 24 }, (_, hour) => cells.get(`${day.toDateString()}/${hour}`));
    return {
      title: day.toLocaleDateString("en-GB", { weekday: "short", day: "2-digit", month: "short" }),
      hours,
      runs: hours.reduce((sum, cell) => sum + (cell?.runs ?? 0), 0),
      seconds: hours.reduce((sum, cell) => sum + (cell?.seconds ?? 0), 0),
    };
  });
});
const busiest = computed(() => Math.max(1, ...props.coming.load.map((item) => item.seconds)));
const depth = (seconds: number) => ["load-1", "load-2", "load-3", "load-4"][Math.min(3, Math.floor((seconds / busiest.value) * 4))];
</script>

<template>
  <div class="scroll" tabindex="0" role="region" aria-label="Load of the coming two weeks">
    <table class="load">
      <caption class="sr-only">
        Runs and expected work by day and hour, in local time
      </caption>
      <thead>
        <tr>
          <th>Day</th>
          <th v-for="hour in 24" :key="hour" class="w-7 min-w-7 px-0! text-center text-xs font-normal">
            <span v-if="(hour - 1) % 3 === 0">{{ hour - 1 }}</span>
          </th>
          <th class="text-right">Runs</th>
          <th class="text-right">Work, {{ coming.slots }} at a time</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="day in days" :key="day.title">
          <td class="whitespace-nowrap">{{ day.title }}</td>
          <td v-for="(cell, hour) in day.hours" :key="hour" class="p-px!">
            <span
              v-if="cell"
              class="block h-5 text-center text-xs"
              :class="depth(cell.seconds)"
              :title="`${hour}:00: ${cell.runs} runs, about ${span(cell.seconds)}`"
              >{{ cell.runs }}</span
            >
          </td>
          <td class="text-right">{{ day.runs || "–" }}</td>
          <td class="text-right whitespace-nowrap">{{ day.runs ? span(day.seconds / Math.max(coming.slots, 1)) : "–" }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-for="wait in coming.collisions.slice(0, 8)" :key="wait.system + wait.at" class="mt-1 text-sm text-warn">
    {{ wait.system }}: {{ wait.routine }} at {{ when(wait.at) }} will wait for {{ wait.waits_for }}.
  </p>
</template>

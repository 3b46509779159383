<script setup lang="ts">
import { computed } from "vue";
import { when } from "../format";

/** How many names a list had in each backup, oldest first: a line of steps, and in words when it last changed. */
const props = defineProps<{ list: string; counts: { at: string; count: number }[] }>();
const width = 200;
const height = 24;
const steps = computed(() => {
  const first = new Date(props.counts[0]?.at ?? 0).getTime();
  const last = new Date(props.counts.at(-1)?.at ?? 0).getTime();
  const [low, high] = [Math.min(...props.counts.map((c) => c.count)), Math.max(...props.counts.map((c) => c.count))];
  const y = (count: number) => (high > low ? height - 3 - ((count - low) / (high - low)) * (height - 6) : height / 2);
  const x = (at: string) => (last > first ? ((new Date(at).getTime() - first) / (last - first)) * width : width);
  return props.counts
    .map((c, n) => `${n ? `H${x(c.at).toFixed(1)} V` : `M${x(c.at).toFixed(1)} `}${y(c.count).toFixed(1)}`)
    .join(" ");
});
const told = computed(() => {
  const newest = props.counts.at(-1);
  const other = [...props.counts].reverse().find((c) => c.count !== newest?.count);
  const since = other && props.counts[props.counts.indexOf(other) + 1];
  return since ? `${other.count} until ${when(since.at)}` : "the same in every backup shown";
});
</script>

<template>
  <div class="flex items-center gap-3">
    <svg :viewBox="`0 0 ${width} ${height}`" class="h-6 w-40 shrink-0" role="img" :aria-label="`${list}: ${told}`">
      <path :d="steps" fill="none" class="stroke-slate" stroke-width="2" />
    </svg>
    <span class="text-sm text-muted">{{ told }}</span>
  </div>
</template>

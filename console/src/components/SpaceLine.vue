<script setup lang="ts">
import { computed } from "vue";
import type { Schema } from "../api";
import { size, when } from "../format";

/** How full a store was over time: a line, and the same as words for who cannot see it. */
const props = defineProps<{ looks: Schema["SpaceShown"][] }>();
const width = 560;
const height = 90;
const most = computed(() => Math.max(1, ...props.looks.map((look) => look.used)));
const points = computed(() => {
  const first = new Date(props.looks[0]?.at ?? 0).getTime();
  const last = new Date(props.looks.at(-1)?.at ?? 0).getTime();
  return props.looks
    .map((look) => {
      const along = last > first ? (new Date(look.at).getTime() - first) / (last - first) : 1;
      return `${(along * width).toFixed(1)},${(height - (look.used / most.value) * (height - 8)).toFixed(1)}`;
    })
    .join(" ");
});
const told = computed(() => {
  const [first, last] = [props.looks[0], props.looks.at(-1)];
  if (!first || !last) return "";
  return `${size(first.used)} on ${when(first.at)}, ${size(last.used)} on ${when(last.at)}`;
});
</script>

<template>
  <figure v-if="looks.length > 1">
    <svg preserveAspectRatio="xMinYMid" :viewBox="`-2 0 ${width + 4} ${height + 2}`" class="h-24 w-full max-w-2xl" role="img" :aria-label="told">
      <line x1="0" :x2="width" :y1="height" :y2="height" class="stroke-line" />
      <polyline :points="points" fill="none" class="stroke-slate" stroke-width="2" />
    </svg>
    <figcaption class="text-sm text-muted">{{ told }}</figcaption>
  </figure>
  <p v-else class="text-muted">It is measured at every scrub and sweep; a line is drawn from the second one on.</p>
</template>

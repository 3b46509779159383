<script setup lang="ts">
import { computed } from "vue";
import type { Schema } from "../api";

const props = defineProps<{ findings: Schema["Finding"][] }>();
const order = ["blocker", "warning", "note"];
const sorted = computed(() =>
  [...props.findings].sort((a, b) => order.indexOf(a.severity) - order.indexOf(b.severity)),
);
const words: Record<string, string> = { blocker: "Blocker", warning: "Warning", note: "Note" };
const looks: Record<string, string> = { blocker: "text-ember", warning: "text-warn", note: "text-muted" };
</script>

<template>
  <ul class="divide-y divide-line border-y border-line">
    <li v-for="finding in sorted" :key="finding.code + finding.text" class="flex gap-3 py-1.5">
      <span class="w-20 shrink-0 text-sm font-semibold" :class="looks[finding.severity]">{{
        words[finding.severity]
      }}</span>
      <span>
        {{ finding.text }} <span class="text-muted">{{ finding.remedy }}</span>
      </span>
    </li>
  </ul>
</template>

<script setup lang="ts">
import type { Schema } from "../api";
import { when } from "../format";

defineProps<{ concerns: Schema["Concern"][] }>();
</script>

<template>
  <ul v-if="concerns.length" class="divide-y divide-line border-y border-line">
    <li v-for="concern in concerns" :key="concern.text" class="flex gap-3 py-2">
      <span
        class="w-20 shrink-0 text-sm font-semibold"
        :class="concern.severity === 'high' ? 'text-ember' : 'text-warn'"
        >{{ concern.severity === "high" ? "At risk" : "Look at" }}</span
      >
      <span>
        {{ concern.text }} <span class="text-muted">{{ concern.remedy }}</span>
        <span v-if="concern.since" class="text-sm whitespace-nowrap text-muted"> Since {{ when(concern.since) }}.</span>
      </span>
    </li>
  </ul>
  <p v-else class="border-y border-line py-2"><span class="font-semibold text-good">All is well.</span> Nothing is wrong.</p>
</template>

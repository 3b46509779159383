<script setup lang="ts">
import type { Schema } from "../api";

type Part = Schema["KindShown"]["parts"][number];
defineProps<{ parts: Part[] }>();
const ways: Record<Part["way"], string> = {
  read: "read by Fennox",
  "pushed when asked": "pushed by the system when a take asks for it",
  "pushed by itself": "pushed by the system by itself",
  "handed in": "handed in by people",
};
function serves(part: Part): string {
  if (!part.uses.length) return "to be read";
  if (part.uses.length === 2) return "to rebuild it, or to load into a running one";
  return part.uses[0] === "rebuild" ? "only to rebuild it" : "only to load into a running one";
}
</script>

<template>
  <h2>How it is taken</h2>
  <div class="scroll" tabindex="0" role="region" aria-label="How it is taken">
    <table>
      <thead>
        <tr>
          <th>Part</th>
          <th>How</th>
          <th>What it serves for</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="part in parts" :key="part.name">
          <td>
            {{ part.title }}
            <span class="block text-sm text-muted"
              >{{ part.name }}{{ part.essential ? ", essential" : "" }}{{ part.default ? "" : ", only when asked for" }}</span
            >
          </td>
          <td>{{ ways[part.way] }}</td>
          <td>{{ serves(part) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script setup lang="ts">
import type { Schema } from "../api";

/** Changes of one document, value by value. */
defineProps<{ change: Schema["DocumentChange"] }>();
const signs = { added: "came", removed: "went", changed: "changed" } as const;

function text(value: unknown): string {
  const shown = typeof value === "string" ? value : JSON.stringify(value);
  return shown.length > 300 ? `${shown.slice(0, 300)}… (${shown.length} characters)` : shown;
}
</script>

<template>
  <p v-if="change.said" class="text-muted">{{ change.said }}</p>
  <table v-if="change.attributes.length || change.changes.length" class="table-fixed text-sm [&_td]:border-0">
    <thead class="sr-only">
      <tr>
        <th>Where</th>
        <th>Before</th>
        <th>After</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(item, place) in [...change.attributes, ...change.changes]" :key="place">
        <td class="w-1/3 break-words align-top text-muted">{{ item.path.join(" / ") }}</td>
        <template v-if="item.secret && item.what === 'changed'">
          <td colspan="2">secret, and has changed</td>
        </template>
        <template v-else>
          <td class="break-words align-top">
            <del v-if="item.what !== 'added'" class="bg-ember-soft font-mono no-underline">{{ text(item.before) }}</del
            ><span v-else class="text-muted">{{ signs.added }}</span>
          </td>
          <td class="break-words align-top">
            <ins v-if="item.what !== 'removed'" class="font-mono font-semibold no-underline">{{ text(item.after) }}</ins
            ><span v-else class="text-muted">{{ signs.removed }}</span>
          </td>
        </template>
      </tr>
    </tbody>
  </table>
</template>

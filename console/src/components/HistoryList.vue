<script setup lang="ts">
import type { Schema } from "../api";
import { some, when } from "../format";
import ChangeList from "./ChangeList.vue";

/** Since when something stands as it does, and what it was before; newest first. */
const props = defineProps<{ traced: Schema["Traced"]; listed: boolean; valued: boolean }>();

function names(place: number, come: boolean): string[] {
  const now = props.traced.standings[place]?.values.map(String) ?? [];
  const before = props.traced.standings[place + 1]?.values.map(String) ?? [];
  return come ? now.filter((name) => !before.includes(name)) : before.filter((name) => !now.includes(name));
}
function text(value: unknown): string {
  return typeof value === "string" ? value : JSON.stringify(value);
}
</script>

<template>
  <p class="text-sm text-muted">
    {{ traced.standings.length === 1 ? "It stood like this" : `${traced.standings.length} states` }} in
    {{ traced.looked_at }} backups.
    <template v-if="traced.unread.length">Not looked into: {{ some(traced.unread, 3) }}.</template>
  </p>
  <ol class="border-l-2 border-slate pl-4">
    <li v-for="(standing, place) in traced.standings" :key="standing.first.id" class="py-2">
      <p>
        <b>{{ place === traced.standings.length - 1 ? "From the first backup," : "Since" }} {{ when(standing.first.time) }}</b>
        <span v-if="place" class="text-muted"> until {{ when(standing.last.time) }}</span>
      </p>
      <p v-if="!standing.there">not there</p>
      <p v-else-if="standing.said">{{ standing.said }}</p>
      <ChangeList v-else-if="standing.change" :change="standing.change" />
      <template v-else-if="listed">
        <p v-if="place === traced.standings.length - 1">{{ standing.values.length }}: {{ some(standing.values.map(String), 12) }}</p>
        <template v-else>
          <p v-if="names(place, true).length">came: {{ some(names(place, true), 20) }}</p>
          <p v-if="names(place, false).length">went: {{ some(names(place, false), 20) }}</p>
        </template>
      </template>
      <template v-else-if="valued">
        <p v-for="(value, at) in standing.values" :key="at" class="break-words font-mono text-sm">{{ text(value) }}</p>
        <p v-if="!standing.values.length" class="text-muted">nothing fits</p>
      </template>
    </li>
  </ol>
</template>

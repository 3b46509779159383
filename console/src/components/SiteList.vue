<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { client, get } from "../api";
import { when } from "../format";
import ProblemNote from "./ProblemNote.vue";

/** Sites whose machines are reached through a worker there. */
const sites = useQuery({
  queryKey: ["sites"],
  queryFn: () => get(client.GET("/api/v1/sites")),
  refetchInterval: 10_000,
});
</script>

<template>
  <h2>Workers of sites</h2>
  <ProblemNote :error="sites.error.value" />
  <div v-if="sites.data.value?.items.length" class="scroll" tabindex="0">
    <table>
      <thead>
        <tr>
          <th>Site</th>
          <th>State</th>
          <th>Takes pushes at</th>
          <th>Machine</th>
          <th>Version</th>
          <th>Last heard of</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in sites.data.value.items" :key="one.name">
          <td>{{ one.name }}</td>
          <td :class="{ 'text-ember': !one.connected }">{{ one.connected ? "connected" : "not connected" }}</td>
          <td>
            <code>{{ one.drop || "–" }}</code>
          </td>
          <td>{{ one.machine || "–" }}</td>
          <td>{{ one.version || "–" }}</td>
          <td class="whitespace-nowrap">{{ one.seen ? when(one.seen) : "never" }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-else-if="sites.data.value" class="text-muted">
    Every machine is reached from here. Where only a worker at the site can, run <code>fennox worker admit SITE</code>.
  </p>
</template>

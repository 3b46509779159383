<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { client, get } from "../api";
import { when } from "../format";
import ProblemNote from "./ProblemNote.vue";
import StateWord from "./StateWord.vue";

/** All run sheets, the newest first. */
const sheets = useQuery({
  queryKey: ["restores"],
  queryFn: () => get(client.GET("/api/v1/restores")),
  refetchInterval: 4_000,
});
</script>

<template>
  <ProblemNote :error="sheets.error.value" />
  <div v-if="sheets.data.value?.items.length" class="scroll" tabindex="0">
    <table>
      <thead>
        <tr>
          <th>Drafted</th>
          <th>System</th>
          <th>Purpose</th>
          <th>Target</th>
          <th>Backup</th>
          <th>State</th>
          <th>By</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="item in sheets.data.value.items" :key="item.id">
          <td>
            <RouterLink :to="`/restores/${item.id}`">{{ when(item.created) }}</RouterLink>
          </td>
          <td>{{ item.system }}</td>
          <td>{{ item.purpose }}</td>
          <td>{{ item.target }}</td>
          <td>
            <code>{{ item.backup.slice(0, 12) }}</code>
          </td>
          <td>
            <StateWord :state="item.state === 'waiting' ? 'waiting for you' : item.state" />
            <span v-if="item.awaits_acceptance" class="block text-sm text-warn">not accepted yet</span>
          </td>
          <td>{{ item.by }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-else-if="sheets.data.value" class="text-muted">None yet. A restore for practice now saves the worst night.</p>
</template>

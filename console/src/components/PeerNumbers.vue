<script setup lang="ts">
import { computed } from "vue";
import type { Schema } from "../api";

const props = defineProps<{ plan: NonNullable<Schema["Sheet"]["replica"]> }>();
const hosts = computed(() => [...new Set(props.plan.numbers.flatMap((one) => Object.keys(one.peers)))].sort());
const decided = computed(() => {
  if (props.plan.stance === "win") return props.plan.claim ? `wins in ${props.plan.claim}` : "wins";
  if (props.plan.stance === "yield") return "yields to its peers";
  if (props.plan.stance === "apart") return "never meets its peers";
  return "wins or yields: nobody has decided";
});
</script>

<template>
  <h2>Where it meets its peers</h2>
  <p>
    The restored copy <strong>{{ decided }}</strong
    ><template v-if="plan.raised">; its numbers are raised by {{ plan.raised }}</template
    >.
  </p>
  <div class="scroll" tabindex="0">
    <table>
      <thead>
        <tr>
          <th>Subtree</th>
          <th>In the backup</th>
          <th v-for="host in hosts" :key="host">On {{ host }}</th>
          <th>Will win</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in plan.numbers" :key="one.name">
          <td>{{ one.name }}</td>
          <td>{{ one.backup || "none" }}</td>
          <td v-for="host in hosts" :key="host">{{ one.peers[host] ?? "none" }}</td>
          <td class="font-semibold">{{ one.winner }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

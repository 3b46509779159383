<script setup lang="ts">
import { computed } from "vue";
import type { Schema } from "../api";
import { until } from "../format";

/** Who must be back before a system, who waits for it, who replicates with it; and when its certificates end. */
const props = defineProps<{ relations: Schema["Relations"]; now: string }>();
const any = computed(
  () =>
    props.relations.needs.length +
      props.relations.needed_by.length +
      props.relations.strangers.length +
      props.relations.peers.length >
    0,
);
const soon = (moment: string) => Date.parse(moment) - Date.parse(props.now) < 30 * 86_400_000;
</script>

<template>
  <div v-if="any">
    <h2>Before it, after it, beside it</h2>
    <table>
      <tbody>
        <tr v-for="other in relations.needs" :key="`n${other.name}`">
          <td class="text-muted">needs first</td>
          <td>
            <RouterLink :to="`/systems/${other.name}`">{{ other.name }}</RouterLink>
          </td>
          <td class="text-sm text-muted">{{ other.because }}</td>
        </tr>
        <tr v-for="other in relations.needed_by" :key="`b${other.name}`">
          <td class="text-muted">needed by</td>
          <td>
            <RouterLink :to="`/systems/${other.name}`">{{ other.name }}</RouterLink>
          </td>
          <td class="text-sm text-muted">{{ other.because }}</td>
        </tr>
        <tr v-for="peer in relations.peers" :key="`p${peer}`">
          <td class="text-muted">replicates with</td>
          <td colspan="2">{{ peer }}</td>
        </tr>
        <tr v-for="host in relations.strangers" :key="`s${host.name}`">
          <td class="text-muted">not enrolled</td>
          <td>
            <code>{{ host.name }}</code>
          </td>
          <td class="text-sm text-muted">{{ host.because }}</td>
        </tr>
      </tbody>
    </table>
    <p v-for="sentence in relations.replicas" :key="sentence" class="mt-1 text-sm">{{ sentence }}</p>
  </div>
  <div v-if="relations.certificates.length">
    <h2>Certificates in its newest backup</h2>
    <table>
      <tbody>
        <tr v-for="item in relations.certificates" :key="item.document + item.subject">
          <td>
            <code class="break-all">{{ item.document }}</code>
            <span class="block text-sm text-muted">{{ item.subject }}</span>
          </td>
          <td :class="soon(item.until) ? 'font-semibold text-ember' : ''">ends {{ until(item.until, now) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

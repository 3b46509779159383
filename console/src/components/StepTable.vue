<script setup lang="ts">
import type { Schema } from "../api";
import { size, span } from "../format";
import StateWord from "./StateWord.vue";

/** Steps of a run sheet, with what each runs as it is written: a script has lines of its own. */
defineProps<{ steps: Schema["SheetStep"][] }>();

function took(from: string | null, to: string | null): string {
  return from && to ? span((Date.parse(to) - Date.parse(from)) / 1000) : "";
}
</script>

<template>
  <div class="scroll" tabindex="0">
    <table>
      <thead>
        <tr>
          <th>No.</th>
          <th>Phase</th>
          <th>Step</th>
          <th>Sends</th>
          <th>State</th>
          <th>Usually</th>
          <th>Took</th>
          <th>Result</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="step in steps" :key="step.number">
          <td class="text-muted">{{ step.number }}</td>
          <td>{{ step.phase }}</td>
          <td>
            {{ step.title }}
            <span v-if="step.restarts" class="mr-1 text-sm text-warn">(restarts)</span>
            <span v-if="!step.undone" class="text-sm text-warn">(cannot be undone)</span>
            <span v-if="!step.stoppable" class="ml-1 text-sm text-warn">(cannot be stopped)</span>
            <b v-if="step.no_return" class="ml-1 text-sm text-ember">nothing leads back after it</b>
            <code v-for="command in step.commands" :key="command" class="block whitespace-pre-wrap text-muted">{{ command }}</code>
          </td>
          <td class="whitespace-nowrap text-muted">{{ step.size ? size(step.size) : "" }}</td>
          <td class="whitespace-nowrap"><StateWord :state="step.state" /></td>
          <td class="whitespace-nowrap text-muted">{{ step.usually === null ? "" : span(step.usually) }}</td>
          <td class="whitespace-nowrap">{{ took(step.started, step.ended) }}</td>
          <td class="text-sm">{{ step.detail }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

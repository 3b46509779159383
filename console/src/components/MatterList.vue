<script setup lang="ts">
import type { Schema } from "../api";
import { when } from "../format";
import ConcernList from "./ConcernList.vue";

type Concern = Schema["Concern"];
/** Concerns by their causes, one sentence each; those it is made of open below it. `now`: the service's clock. */
const props = defineProps<{ matters: Schema["Matter"][]; concerns: Concern[]; now: string }>();
function of(matter: Schema["Matter"]): Concern[] {
  return props.concerns.filter((concern) => matter.concerns.includes(concern.id));
}
</script>

<template>
  <ConcernList v-if="!matters.length" :concerns="[]" :now="now" />
  <ul v-else class="divide-y divide-line border-y border-line">
    <li v-for="matter in matters" :key="matter.concerns[0]">
      <ConcernList v-if="matter.in_all === 1" :concerns="of(matter)" :now="now" within />
      <details v-else class="group py-2">
        <summary class="flex cursor-pointer list-none gap-3">
          <span
            class="w-20 shrink-0 text-sm font-semibold"
            :class="matter.severity === 'high' ? 'text-ember' : 'text-warn'"
            >{{ matter.severity === "high" ? "At risk" : "Look at" }}</span
          >
          <span class="min-w-0 grow break-words">
            {{ matter.text }} <span v-if="matter.means">{{ `${matter.means} ` }}</span
            ><span class="text-muted">{{ matter.remedy }}</span>
            <span class="text-sm whitespace-nowrap text-muted"> (since {{ when(matter.since) }})</span>
          </span>
          <span class="shrink-0 text-sm whitespace-nowrap text-muted underline"
            ><span class="group-open:hidden">all {{ matter.in_all }}</span
            ><span class="hidden group-open:inline">close</span></span
          >
        </summary>
        <div class="mt-2 ml-6">
          <ConcernList :concerns="of(matter)" :now="now" within />
          <p v-if="matter.in_all > matter.concerns.length" class="py-2 text-sm text-muted">
            and {{ matter.in_all - matter.concerns.length }} more: <code>fennox concern list</code>
          </p>
        </div>
      </details>
    </li>
  </ul>
</template>

<script setup lang="ts">
import { computed } from "vue";
import type { Schema } from "../api";
import { when } from "../format";

/** What a restore of a system meets that can go wrong, and in which proved restore it was met. */
const props = defineProps<{ system: string; hazards: Schema["Hazards"] }>();
type Hazard = Schema["Hazard"];
type Met = Schema["Met"];
const words: Record<Hazard["sorts"][number], string> = {
  asks: "a person is asked",
  "must-hold": "must hold",
  "no-way-back": "no way back after it",
  "not-undone": "not undone if the restore is given up",
  restarts: "restarts",
  "leaves-open": "leaves it in a special state for a while",
};
const never = computed(() => props.hazards.items.filter((item) => !item.met).length);
function how(met: Met): string {
  const older = met.kind_version === props.hazards.kind_version ? "" : `, by version ${met.kind_version} of the kind`;
  return `${met.purpose === "practise" ? "practised" : met.purpose} ${when(met.at)}${older}`;
}
</script>

<template>
  <h2>What a restore of it meets</h2>
  <p v-if="!hazards.items.length" class="text-muted">
    No step of the kind asks a person, restarts something or cannot be undone.
  </p>
  <template v-else>
    <p :class="never ? '' : 'text-muted'">
      <template v-if="never"
        >{{ never }} of {{ hazards.items.length }} were never met in a proved restore of {{ system }}. Practise on a
        spare.</template
      >
      <template v-else>All of these were met in proved restores of {{ system }}.</template>
    </p>
    <div class="scroll mt-2" tabindex="0" role="region" aria-label="What a restore of it meets">
      <table>
        <thead>
          <tr>
            <th>Phase</th>
            <th>Step</th>
            <th>Why it matters</th>
            <th>Met in a proved restore</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="item in hazards.items" :key="`${item.phase} ${item.step}`">
            <td class="text-muted">{{ item.phase }}</td>
            <td>
              {{ item.step }}
              <span v-if="item.question" class="block text-sm text-muted">{{ item.question }}</span>
              <span v-if="item.leaves" class="block text-sm text-muted">{{ item.leaves }}</span>
            </td>
            <td>{{ item.sorts.map((sort) => words[sort]).join(", ") }}</td>
            <td>
              <RouterLink v-if="item.met" :to="`/restores/${item.met.sheet}`">{{ how(item.met) }}</RouterLink>
              <template v-else>
                <span class="font-semibold text-ember">never</span>
                <span v-if="item.met_elsewhere" class="block text-sm text-muted"
                  >at {{ item.met_elsewhere.system }}: {{ how(item.met_elsewhere) }}</span
                >
              </template>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </template>
  <ul v-if="hazards.versions.length" class="mt-2 text-sm text-muted">
    <li v-for="sentence in hazards.versions" :key="sentence">{{ sentence }}</li>
  </ul>
</template>

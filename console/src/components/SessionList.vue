<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { client, get, type Schema } from "../api";
import { when } from "../format";
import { may } from "../session";
import ProblemNote from "./ProblemNote.vue";

/** Sessions of people, or tokens of programs; one's own, or everybody's. */
const props = defineProps<{ programs: boolean; everybody: boolean }>();
type Session = Schema["SessionShown"];
const found = useQuery({
  queryKey: computed(() => ["sessions", props.everybody]),
  queryFn: () => get(client.GET("/api/v1/sessions", { params: { query: { everybody: props.everybody } } })),
  refetchInterval: 15_000,
});
const shown = computed(() =>
  (found.data.value?.items ?? []).filter((one) => ["automation", "metrics"].includes(one.kind) === props.programs),
);
const end = useMutation({
  mutationFn: async (id: string) => {
    await get(client.DELETE("/api/v1/sessions/{session_id}", { params: { path: { session_id: id } } }));
  },
  onSuccess: () => found.refetch(),
});
const endOthers = useMutation({
  mutationFn: async () => {
    await get(client.POST("/api/v1/sessions/end-others"));
  },
  onSuccess: () => found.refetch(),
});
function reach(one: Session): string {
  return one.scope === null ? "the whole estate" : one.scope.map((list) => list.join("; or ")).join(" and ");
}
</script>

<template>
  <ProblemNote :error="found.error.value ?? end.error.value ?? endOthers.error.value" />
  <div v-if="shown.length" class="scroll" tabindex="0">
    <table>
      <thead>
        <tr>
          <th v-if="programs">Token</th>
          <th v-if="everybody">User</th>
          <th>Kind</th>
          <th v-if="programs">May</th>
          <th v-if="!programs">From</th>
          <th v-if="!programs">Program</th>
          <th>Since</th>
          <th>Last used</th>
          <th>Until</th>
          <th><span class="sr-only">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in shown" :key="one.id">
          <td v-if="programs">{{ one.name }}</td>
          <td v-if="everybody">{{ one.user }}</td>
          <td>{{ one.kind }}<strong v-if="one.current"> (this one)</strong></td>
          <td v-if="programs">{{ one.role }}, {{ reach(one) }}</td>
          <td v-if="!programs"><code>{{ one.address || "–" }}</code></td>
          <td v-if="!programs" class="max-w-64 truncate" :title="one.program">{{ one.program || "–" }}</td>
          <td class="whitespace-nowrap">{{ when(one.created) }}</td>
          <td class="whitespace-nowrap">{{ one.last_used ? when(one.last_used) : "never" }}</td>
          <td class="whitespace-nowrap">{{ when(one.until) }}</td>
          <td>
            <button
              v-if="!one.current && (!everybody || may('administrator'))"
              type="button"
              class="cursor-pointer text-slate hover:underline"
              @click="end.mutate(one.id)"
            >
              End<span class="sr-only"> {{ one.name || one.user }}</span>
            </button>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-else-if="found.data.value" class="text-muted">{{ programs ? "There is no token." : "Nobody is signed in." }}</p>
  <button
    v-if="!programs && !everybody && shown.length > 1"
    type="button"
    class="mt-3 cursor-pointer text-slate hover:underline"
    @click="endOthers.mutate()"
  >
    Sign out everywhere else
  </button>
</template>

<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { client, get, type Schema } from "../api";
import { when } from "../format";
import { may } from "../session";
import AskDialog from "./AskDialog.vue";
import ProblemNote from "./ProblemNote.vue";

type Concern = Schema["Concern"];
/** Each as a sentence: how bad, what it means, what to do, since when. `now`: the service's clock; `within` another list. */
const props = defineProps<{ concerns: Concern[]; now: string; within?: boolean }>();
const queries = useQueryClient();
const muting = ref<Concern | null>(null);
const reason = ref("");
const days = ref(7);
const places: Record<string, string> = { system: "/systems", store: "/stores", routine: "/routines" };
function place(concern: Concern): string | null {
  if (concern.noun === "routine") return "/routines";
  return concern.noun in places ? `${places[concern.noun]}/${concern.about}` : null;
}
const mute = useMutation({
  mutationFn: (concern: Concern) =>
    get(
      client.POST("/api/v1/concerns/{concern}/mute", {
        params: { path: { concern: concern.id } },
        body: {
          reason: reason.value,
          until: new Date(Date.parse(props.now) + days.value * 86_400_000).toISOString(),
        },
      }),
    ),
  onSuccess: async () => {
    muting.value = null;
    reason.value = "";
    await queries.invalidateQueries();
  },
});
const unmute = useMutation({
  mutationFn: (concern: Concern) =>
    get(client.DELETE("/api/v1/concerns/{concern}/mute", { params: { path: { concern: concern.id } } })),
  onSuccess: () => queries.invalidateQueries(),
});
</script>

<template>
  <ul v-if="concerns.length" class="divide-y divide-line" :class="within ? '' : 'border-y border-line'">
    <li v-for="concern in concerns" :key="concern.id" class="flex gap-3 py-2">
      <span
        class="w-20 shrink-0 text-sm font-semibold"
        :class="concern.severity === 'high' ? 'text-ember' : 'text-warn'"
        >{{ concern.severity === "high" ? "At risk" : "Look at" }}</span
      >
      <span class="min-w-0 grow break-words">
        {{ concern.text }} <span v-if="concern.means">{{ `${concern.means} ` }}</span
        ><span class="text-muted">{{ concern.remedy }}</span>
        <span v-if="concern.since" class="text-sm whitespace-nowrap text-muted"> (since {{ when(concern.since) }})</span>
        <span v-if="concern.muted_until" class="block text-sm text-muted">
          Muted by {{ concern.muted_by }} until {{ when(concern.muted_until) }}: {{ concern.muted_because }}
          <button v-if="may('operator')" type="button" class="cursor-pointer underline" @click="unmute.mutate(concern)">
            unmute
          </button>
        </span>
      </span>
      <span class="flex shrink-0 items-baseline gap-3 text-sm">
        <RouterLink v-if="place(concern)" :to="place(concern)!">{{ concern.about }}</RouterLink>
        <button
          v-if="may('operator') && !concern.muted_until"
          type="button"
          class="cursor-pointer text-muted underline"
          :aria-label="`Mute: ${concern.text}`"
          @click="muting = concern"
        >
          mute
        </button>
      </span>
    </li>
  </ul>
  <p v-else-if="!within" class="border-y border-line py-2"><span class="font-semibold text-good">All is well.</span> Nothing is wrong.</p>
  <ProblemNote :error="unmute.error.value" />

  <AskDialog :open="muting !== null" title="Mute a concern" @close="muting = null">
    <form v-if="muting" @submit.prevent="mute.mutate(muting)">
      <p>{{ muting.text }}</p>
      <p class="mt-1 text-sm text-muted">It stays in the list of what is muted, and comes back by itself.</p>
      <label class="label" for="mute-why">Why nobody needs an alert</label>
      <input id="mute-why" v-model="reason" class="field" required maxlength="500" />
      <label class="label" for="mute-days">For how many days</label>
      <input id="mute-days" v-model.number="days" type="number" min="1" max="365" class="field w-28" required />
      <ProblemNote :error="mute.error.value" />
      <div class="mt-4 flex gap-3">
        <button class="button" :disabled="mute.isPending.value">Mute it</button>
        <button type="button" class="cursor-pointer text-muted" @click="muting = null">Cancel</button>
      </div>
    </form>
  </AskDialog>
</template>

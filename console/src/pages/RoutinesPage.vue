<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, onMounted, onUnmounted, ref, watch } from "vue";
import { useRoute } from "vue-router";
import { client, get, type Schema } from "../api";
import AskDialog from "../components/AskDialog.vue";
import LadderLine from "../components/LadderLine.vue";
import LoadCalendar from "../components/LoadCalendar.vue";
import ProblemNote from "../components/ProblemNote.vue";
import { when } from "../format";
import { may } from "../session";

type Mode = Schema["RoutineShown"]["mode"];
const queries = useQueryClient();
const adding = ref(useRoute().query.add === "1");
const looked = ref("");
const wanted = ref({
  name: "nightly",
  systems: "all",
  when: "every day at 02:40",
  zone: Intl.DateTimeFormat().resolvedOptions().timeZone,
  store: "",
  copy_to: [] as string[],
  ladder: "everything for 14 days, daily for 60 days, always 3",
  spread: 0,
  quiet: "",
  look_every: 0,
  settle: 10,
  most_a_day: 4,
  run_now: false,
});
const routines = useQuery({
  queryKey: ["routines"],
  queryFn: () => get(client.GET("/api/v1/routines")),
  refetchInterval: 10_000,
});
const coming = useQuery({
  queryKey: ["coming"],
  queryFn: () => get(client.GET("/api/v1/routines/coming")),
  refetchInterval: 60_000,
});
const status = useQuery({ queryKey: ["status"], queryFn: () => get(client.GET("/api/v1/status")) });
const stores = useQuery({ queryKey: ["stores"], queryFn: () => get(client.GET("/api/v1/stores")) });
watch(
  () => stores.data.value,
  (found) => (wanted.value.store ||= found?.items[0]?.name ?? ""),
  { immediate: true },
);
/** The one system whose ladder is looked at; empty: the first ones that the routine takes. */
const one = ref("");
watch(looked, () => (one.value = ""));
const preview = useQuery({
  queryKey: computed(() => ["preview", looked.value, one.value]),
  queryFn: () =>
    get(
      client.GET("/api/v1/routines/{name}/preview", {
        params: { path: { name: looked.value }, query: { system: one.value || undefined } },
      }),
    ),
  enabled: computed(() => looked.value !== ""),
});
const NAMED = 30;
function taken(routine: Schema["RoutineShown"]): string {
  const more = routine.in_all > NAMED ? ` and ${routine.in_all - NAMED} more` : "";
  return routine.members.slice(0, NAMED).join(", ") + more;
}
const body = computed(() => ({
  ...wanted.value,
  store: wanted.value.store || stores.data.value?.items[0]?.name || "",
  mode: "on" as const,
}));
const trial = useMutation({ mutationFn: () => get(client.POST("/api/v1/routines/preview", { body: body.value })) });
let waiting: ReturnType<typeof setTimeout> | undefined;
/** What is being written is tried a moment after the last letter. */
function tryLater(): void {
  trial.reset();
  clearTimeout(waiting);
  waiting = setTimeout(() => trial.mutate(), 400);
}
watch(adding, (open) => open && tryLater());
onMounted(() => adding.value && tryLater());
onUnmounted(() => clearTimeout(waiting));
const add = useMutation({
  mutationFn: () => get(client.POST("/api/v1/routines", { body: body.value })),
  onSuccess: async () => {
    adding.value = false;
    await queries.invalidateQueries();
  },
});
const change = useMutation({
  mutationFn: (asked: { name: string; mode: Mode }) =>
    get(
      client.PATCH("/api/v1/routines/{name}", { params: { path: { name: asked.name } }, body: { mode: asked.mode } }),
    ),
  onSuccess: () => queries.invalidateQueries(),
});
const words: Record<Mode, string> = { on: "on", off: "off", "by hand": "by hand only, on purpose" };
</script>

<template>
  <div class="flex items-baseline justify-between">
    <h1>Routines</h1>
    <button v-if="may('administrator')" type="button" class="button" @click="adding = true">Add a routine</button>
  </div>
  <ProblemNote :error="routines.error.value ?? change.error.value" />
  <p v-if="routines.data.value && !routines.data.value.items.length" class="mt-3">
    There is no routine yet: backups come by hand only. Add one, and nobody has to think of it.
  </p>
  <section v-for="routine in routines.data.value?.items" :key="routine.id" class="mt-6 border-t-2 border-ink pt-2">
    <div class="flex flex-wrap items-baseline gap-4">
      <h2 class="m-0!">{{ routine.name }}</h2>
      <span :class="routine.mode === 'off' ? 'font-semibold text-ember' : 'text-good'">{{ words[routine.mode] }}</span>
      <span v-if="may('administrator')" class="ml-auto flex gap-3">
        <button
          v-for="mode in (['on', 'off', 'by hand'] as Mode[]).filter((one) => one !== routine.mode)"
          :key="mode"
          type="button"
          class="button"
          @click="change.mutate({ name: routine.name, mode })"
        >
          {{ mode === "on" ? "Switch on" : mode === "off" ? "Switch off" : "By hand only" }}
        </button>
      </span>
    </div>
    <p class="mt-1">
      {{ routine.when }} ({{ routine.zone }}) to {{ routine.store }}<template v-if="routine.copy_to.length">, copied to {{ routine.copy_to.join(", ") }}</template>. Next run {{ when(routine.next_run) }}, last due
      {{ when(routine.last_due) }}.
    </p>
    <p v-if="routine.spread || routine.quiet">
      <template v-if="routine.spread">Its systems begin over {{ routine.spread }} minutes. </template>
      <template v-if="routine.quiet">Nothing begins from {{ routine.quiet }}.</template>
    </p>
    <p v-if="routine.look_every">
      Looks every {{ routine.look_every }} minutes whether something differs;
      <template v-if="routine.mode === 'by hand'">differences are reported.</template>
      <template v-else
        >what differs for {{ routine.settle }} minutes is taken, at most {{ routine.most_a_day }} times a day.</template
      >
    </p>
    <p>Keeps {{ routine.ladder }}<template v-if="routine.parts">, of the parts {{ routine.parts.join(", ") }}</template>.</p>
    <p class="text-muted">{{ routine.systems }}: {{ taken(routine) || "no system fits" }}</p>
    <button
      type="button"
      class="mt-1 cursor-pointer underline decoration-line underline-offset-3"
      :aria-expanded="looked === routine.name"
      @click="looked = looked === routine.name ? '' : routine.name"
    >
      What stays and what goes
    </button>
    <div v-if="looked === routine.name" class="mt-2">
      <template v-if="routine.in_all > 1">
        <label class="label" :for="`of-${routine.name}`">Of which system</label>
        <select v-if="routine.in_all === routine.members.length" :id="`of-${routine.name}`" v-model="one" class="field max-w-80">
          <option value="">all {{ routine.in_all }}</option>
          <option v-for="name in routine.members" :key="name">{{ name }}</option>
        </select>
        <input
          v-else
          :id="`of-${routine.name}`"
          v-model.lazy.trim="one"
          class="field max-w-80"
          :placeholder="`the first ${routine.members.length} of ${routine.in_all}; or a name`"
        />
      </template>
      <ProblemNote :error="preview.error.value" />
    </div>
    <div v-if="looked === routine.name && preview.data.value" class="mt-2">
      <p class="mt-2">{{ preview.data.value.stays }} backups stay, {{ preview.data.value.goes }} go.</p>
      <LadderLine :systems="preview.data.value.systems" />
      <div class="scroll max-h-80 overflow-y-auto" tabindex="0" role="region" aria-label="Preview of the ladder">
        <table>
          <thead>
            <tr>
              <th>System</th>
              <th>Taken</th>
              <th>Kept by</th>
              <th>Goes, at the earliest</th>
            </tr>
          </thead>
          <tbody>
            <template v-for="system in preview.data.value.systems" :key="system.system">
              <tr v-for="item in system.backups" :key="item.backup">
                <td>{{ system.system }}</td>
                <td class="whitespace-nowrap">{{ when(item.time) }} {{ item.name }}</td>
                <td :class="item.goes ? 'font-semibold text-ember' : ''">{{ item.kept_by.join(", ") || "nothing: it goes" }}</td>
                <td class="whitespace-nowrap">{{ item.goes ? "now" : item.goes_at ? when(item.goes_at) : "no end is known" }}</td>
              </tr>
            </template>
          </tbody>
        </table>
      </div>
    </div>
  </section>

  <template v-if="coming.data.value?.load.length && status.data.value">
    <h2>The coming two weeks</h2>
    <LoadCalendar :coming="coming.data.value" :now="status.data.value.at" />
  </template>

  <AskDialog :open="adding" title="Add a routine" @close="adding = false">
    <form @submit.prevent="add.mutate()" @input="tryLater" @change="tryLater">
      <label class="label" for="routine-name">Name</label>
      <input id="routine-name" v-model="wanted.name" class="field" required />
      <label class="label" for="routine-systems">Systems: all, or terms like kind=linux-server site=holm-island</label>
      <input id="routine-systems" v-model="wanted.systems" class="field" required />
      <div class="grid grid-cols-2 gap-x-4">
        <div>
          <label class="label" for="routine-when">When, as a phrase, a recurrence rule or a cron line</label>
          <input id="routine-when" v-model="wanted.when" class="field" required placeholder="every day at 02:40" />
        </div>
        <div>
          <label class="label" for="routine-zone">Time zone</label>
          <input id="routine-zone" v-model="wanted.zone" class="field" required />
        </div>
      </div>
      <label class="label" for="routine-store">Store</label>
      <select id="routine-store" v-model="wanted.store" class="field">
        <option v-for="store in stores.data.value?.items" :key="store.id" :value="store.name">{{ store.name }}</option>
      </select>
      <fieldset v-if="(stores.data.value?.items.length ?? 0) > 1" class="mt-3">
        <legend class="text-sm text-muted">Also send a copy of every backup to</legend>
        <label v-for="store in stores.data.value?.items.filter((item) => item.name !== body.store)" :key="store.id" class="mr-4">
          <input v-model="wanted.copy_to" type="checkbox" :value="store.name" class="mr-1 accent-slate" />{{ store.name }}
        </label>
      </fieldset>
      <label class="label" for="routine-ladder">How long backups stay</label>
      <input id="routine-ladder" v-model="wanted.ladder" class="field" required />
      <div class="grid grid-cols-2 gap-x-4">
        <div>
          <label class="label" for="routine-spread">Its systems begin over so many minutes</label>
          <input id="routine-spread" v-model.number="wanted.spread" type="number" min="0" max="1440" class="field" />
        </div>
        <div>
          <label class="label" for="routine-quiet">Hours in which nothing begins</label>
          <input id="routine-quiet" v-model="wanted.quiet" class="field" placeholder="08:00 to 18:00" />
        </div>
      </div>
      <label class="label" for="routine-look">Look between takes whether something differs, every so many minutes; 0: never</label>
      <input id="routine-look" v-model.number="wanted.look_every" type="number" min="0" max="10080" class="field" />
      <label class="mt-3 block"
        ><input v-model="wanted.run_now" type="checkbox" class="mr-1 accent-slate" />also take every system once, now</label
      >
      <div v-if="trial.data.value" class="mt-3 border-l-4 border-slate px-3" aria-live="polite">
        <p>
          Of {{ trial.data.value.in_all }} systems, next
          {{ trial.data.value.next_runs.slice(0, 3).map(when).join(", then ") || "never" }}.
        </p>
        <p>
          Of the backups
          {{ trial.data.value.in_all > trial.data.value.systems.length ? "of the systems below" : "there are" }},
          {{ trial.data.value.stays }} stay and {{ trial.data.value.goes }} go.
        </p>
        <LadderLine :systems="trial.data.value.systems" />
      </div>
      <div class="mt-4 flex gap-3">
        <button class="button" :disabled="add.isPending.value || !trial.data.value">Save</button>
        <button type="button" class="cursor-pointer text-muted" @click="adding = false">Cancel</button>
      </div>
      <ProblemNote :error="trial.error.value ?? add.error.value" />
    </form>
  </AskDialog>
</template>

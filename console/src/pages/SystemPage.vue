<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute } from "vue-router";
import { client, get } from "../api";
import SystemRelations from "../components/SystemRelations.vue";
import BackupLine from "../components/BackupLine.vue";
import BackupTable from "../components/BackupTable.vue";
import CensusLine from "../components/CensusLine.vue";
import DoubtedBackup from "../components/DoubtedBackup.vue";
import FindingList from "../components/FindingList.vue";
import HazardTable from "../components/HazardTable.vue";
import PieceTable from "../components/PieceTable.vue";
import RetireDialog from "../components/RetireDialog.vue";
import ProblemNote from "../components/ProblemNote.vue";
import StateWord from "../components/StateWord.vue";
import TakeDialog from "../components/TakeDialog.vue";
import { age, serviceNow, size, when } from "../format";
import { may } from "../session";

const route = useRoute();
const name = String(route.params.name);
const path = { name };
const taking = ref(false);
const system = useQuery({
  queryKey: ["system", name],
  queryFn: () => get(client.GET("/api/v1/systems/{name}", { params: { path } })),
  refetchInterval: 3_000,
});
const backups = useQuery({
  queryKey: ["backups", name],
  queryFn: () => get(client.GET("/api/v1/backups", { params: { query: { system: name, limit: 500 } } })),
  refetchInterval: 3_000,
});
const relations = useQuery({
  queryKey: ["relations", name],
  queryFn: () => get(client.GET("/api/v1/systems/{name}/relations", { params: { path } })),
});
const hazards = useQuery({
  queryKey: ["hazards", name],
  queryFn: () => get(client.GET("/api/v1/systems/{name}/hazards", { params: { path } })),
});
const handIns = useQuery({
  queryKey: ["hand-ins", name],
  queryFn: () => get(client.GET("/api/v1/systems/{name}/hand-ins", { params: { path } })),
});
const kinds = useQuery({ queryKey: ["kinds"], queryFn: () => get(client.GET("/api/v1/kinds")) });
const kind = computed(() => kinds.data.value?.items.find((item) => item.name === system.data.value?.kind));
const status = useQuery({ queryKey: ["status"], queryFn: () => get(client.GET("/api/v1/status")) });
const probe = useMutation({
  mutationFn: () => get(client.POST("/api/v1/systems/{name}/probe", { params: { path } })),
});
const confirm = useMutation({
  mutationFn: (machine: string) =>
    get(client.POST("/api/v1/systems/{name}/confirm", { params: { path }, body: { machine } })),
  onSuccess: async () => {
    probe.reset();
    await system.refetch();
  },
});
/** How long a list was in each whole backup, oldest first. */
function censusOf(list: string): { at: string; count: number }[] {
  const told = (backups.data.value?.items ?? []).filter((b) => b.purpose === "backup" && list in b.census);
  return told.map((b) => ({ at: b.time, count: b.census[list] ?? 0 })).reverse();
}
const newest = computed(() => backups.data.value?.items.find((b) => b.purpose === "backup"));
/** Of each backup, the one taken before it. */
const before = computed(() => {
  const taken = (backups.data.value?.items ?? []).filter((b) => b.purpose === "backup");
  return Object.fromEntries(taken.slice(0, -1).map((b, place) => [b.id, taken[place + 1]!.id]));
});
const doubted = computed(() => (backups.data.value?.items ?? []).filter((b) => b.doubtful && !b.expired));
/** What keeps routines from it or waits for a person, the most important one, and what a person says to end it. */
const stands = computed(() => {
  const it = system.data.value;
  if (!it) return null;
  if (it.retired) {
    const backups = it.let_go ? "Its backups go by their ladders." : "All its backups stay.";
    return { text: `Retired since ${when(it.retired)}: ${it.retired_because}. ${backups}`, undo: "Use it again" };
  }
  if (it.suspended_because)
    return { text: `No routine takes it: ${it.suspended_because}.`, undo: "Let routines take it again" };
  if (it.left_open.length && !it.active_run) {
    const text = `Done before a take and not undone: ${it.left_open.join(", ")}. The next take undoes it first.`;
    return { text, undo: "It was undone on the machine" };
  }
  return null;
});
const retiring = ref(false);
function reread(): Promise<unknown> {
  retiring.value = false;
  return Promise.all([system.refetch(), backups.refetch()]);
}
const resume = useMutation({
  mutationFn: () => get(client.POST("/api/v1/systems/{name}/resume", { params: { path } })),
  onSuccess: reread,
});
const own = computed(() => system.data.value?.kind === "fennox");
const now = computed(() => status.data.value?.at ?? new Date(serviceNow()).toISOString());
</script>

<template>
  <ProblemNote :error="system.error.value" />
  <template v-if="system.data.value">
    <div class="flex flex-wrap items-baseline gap-x-4 gap-y-2">
      <h1>{{ name }}</h1>
      <span class="text-muted"
        ><template v-if="own">the service that you look at; what is kept of it, and how it comes back, stands under
          <RouterLink to="/stores">Stores</RouterLink></template
        ><template v-else
          ><RouterLink :to="`/kinds/${system.data.value.kind}`">{{ system.data.value.kind }}</RouterLink> at <code>{{ system.data.value.address }}</code></template
        ></span
      >
      <span class="ml-auto flex gap-3">
        <button v-if="may('operator')" type="button" class="button" :disabled="probe.isPending.value" @click="probe.mutate()">
          Probe
        </button>
        <RouterLink v-if="newest && may('operator')" :to="`/compare?system=${name}&after=live`" class="button"
          >What differs now</RouterLink
        >
        <button v-if="may('operator')" type="button" class="button" @click="taking = true">Take a backup</button>
        <RouterLink v-if="newest && may('operator') && !own" :to="`/restores?backup=${newest.id}`" class="button button-ember"
          >Restore …</RouterLink
        >
      </span>
    </div>
    <p class="mt-1">
      <template v-if="system.data.value.newest_good">
        The newest good backup is {{ age(system.data.value.newest_good, now) }} old, in
        {{ system.data.value.stores.join(" and ") }}.
      </template>
      <template v-else-if="system.data.value.spare">It is a spare: restores are practised on it, and it may be overwritten.</template>
      <span v-else class="font-semibold text-ember">There is no backup of it.</span>
      <template v-if="system.data.value.next_run"> The next one comes {{ when(system.data.value.next_run) }}.</template>
      <template v-else-if="!system.data.value.spare"> No routine takes it{{ system.data.value.retired ? " any more" : "" }}.</template>
      <RouterLink v-if="system.data.value.active_run" :to="`/runs/${system.data.value.active_run.id}`" class="ml-2">
        {{ system.data.value.active_run.kind }} <StateWord :state="system.data.value.active_run.state" />
      </RouterLink>
    </p>

    <div v-if="probe.data.value" class="mt-3 border-l-4 border-slate px-3 py-1">
      <p v-if="!probe.data.value.reached">{{ probe.data.value.problem }} {{ probe.data.value.remedy }}</p>
      <template v-else-if="probe.data.value.machine">
        <p>
          It answers: {{ probe.data.value.machine.name }}, {{ probe.data.value.machine.product }}
          {{ probe.data.value.machine.version }}, machine <code>{{ probe.data.value.machine.id }}</code
          >, <template v-if="probe.data.value.same_machine">the one that is known.</template
          ><b v-else class="text-ember">not the one that is known.</b>
        </p>
        <button
          v-if="probe.data.value.same_machine === false"
          type="button"
          class="button button-ember mt-2"
          @click="confirm.mutate(probe.data.value.machine.id)"
        >
          It is {{ name }}, reinstalled or replaced: confirm
        </button>
      </template>
    </div>
    <ProblemNote :error="probe.error.value ?? confirm.error.value" />

    <p v-if="system.data.value.differs" class="mt-3 border-l-2 border-warn py-1 pl-3">
      Since {{ when(system.data.value.differs_since) }} it differs from its last backup:
      {{ system.data.value.differs }}.
    </p>
    <div
      v-if="stands"
      :class="[
        'mt-3 border-l-4 px-3 py-2',
        system.data.value.retired ? 'border-slate bg-panel' : 'border-ember bg-ember-soft',
      ]"
    >
      <p>{{ stands.text }}</p>
      <button v-if="may('operator')" type="button" class="button mt-2" :disabled="resume.isPending.value" @click="resume.mutate()">
        {{ stands.undo }}
      </button>
      <ProblemNote :error="resume.error.value" />
    </div>
    <DoubtedBackup
      v-for="backup in doubted"
      :key="backup.id"
      :backup="backup"
      :before="before[backup.id]"
      @cleared="backups.refetch()"
    />

    <template v-if="system.data.value.missing.length">
      <h2>What its newest backup lacks</h2>
      <FindingList :findings="system.data.value.missing" />
    </template>

    <h2>Backups</h2>
    <BackupLine v-if="backups.data.value?.items.length" :backups="backups.data.value.items" :now="now" />
    <p v-else-if="backups.data.value" class="text-muted">None yet. Take the first one by hand, and look at it.</p>
    <BackupTable v-if="backups.data.value?.items.length" :system="name" :backups="backups.data.value.items" :before="before" />

    <template v-if="handIns.data.value?.items.length">
      <h2>What people hand in</h2>
      <ul class="divide-y divide-line border-y border-line">
        <li v-for="item in handIns.data.value.items" :key="item.document" class="py-1.5">
          {{ item.title }} (<code>{{ item.document }}</code
          >): {{ item.handed_in ? `handed in ${when(item.handed_in)} by ${item.by}` : "never handed in" }}.
          <span class="text-muted"
            >{{ item.how }} Then: <code>fennox backup hand-in {{ name }} FILE</code></span
          >
        </li>
      </ul>
    </template>

    <PieceTable v-if="kind" :parts="kind.parts" />
    <HazardTable v-if="hazards.data.value && !own" :system="name" :hazards="hazards.data.value" />

    <div class="grid gap-x-10 md:grid-cols-2">
      <SystemRelations v-if="relations.data.value" :relations="relations.data.value" :now="now" />
      <div v-if="newest">
        <h2>What the newest one holds</h2>
        <table>
          <tbody>
            <tr v-for="part in newest.parts" :key="part.name">
              <td>{{ part.name }}</td>
              <td>{{ part.documents }} {{ part.documents === 1 ? "document" : "documents" }}</td>
              <td>{{ size(part.bytes) }}</td>
            </tr>
          </tbody>
        </table>
        <h2>What it is good for</h2>
        <ul class="divide-y divide-line border-y border-line">
          <li v-for="said in newest.worth" :key="said" class="break-words py-1.5">{{ said }}</li>
        </ul>
      </div>
      <div v-if="newest">
        <h2>Census</h2>
        <p v-if="newest.not_counted.length" class="text-sm text-muted">
          Not counted, as the newest backup lacks parts: {{ newest.not_counted.join(", ") }}
        </p>
        <table>
          <tbody>
            <tr v-for="(count, list) in newest.census" :key="list">
              <td>{{ list }}</td>
              <td>{{ count }}</td>
              <td><CensusLine v-if="censusOf(String(list)).length > 1" :list="String(list)" :counts="censusOf(String(list))" /></td>
            </tr>
          </tbody>
        </table>
      </div>
      <div>
        <h2>What it is</h2>
        <table>
          <tbody>
            <tr>
              <td class="text-muted">Machine</td>
              <td>
                {{ system.data.value.machine?.name }} <code>{{ system.data.value.machine?.id }}</code>
              </td>
            </tr>
            <tr>
              <td class="text-muted">Version</td>
              <td>{{ system.data.value.machine?.product }} {{ system.data.value.machine?.version }}</td>
            </tr>
            <tr>
              <td class="text-muted">Key</td>
              <td>
                <code class="break-all">{{ system.data.value.key }}</code>
              </td>
            </tr>
            <tr>
              <td class="text-muted">Login</td>
              <td>{{ system.data.value.login ?? "none: it is the service itself" }}</td>
            </tr>
            <tr>
              <td class="text-muted">Site and labels</td>
              <td>{{ [system.data.value.site, ...system.data.value.labels].filter(Boolean).join(", ") || "–" }}</td>
            </tr>
            <tr>
              <td class="text-muted">Routines</td>
              <td>{{ system.data.value.routines.join(", ") || "none" }}</td>
            </tr>
          </tbody>
        </table>
        <button
          v-if="may('administrator') && !system.data.value.retired && system.data.value.login"
          type="button"
          class="mt-3 cursor-pointer text-sm text-muted underline"
          @click="retiring = true"
        >
          Retire it …
        </button>
      </div>
    </div>
  </template>

  <RetireDialog :name="name" :open="retiring" @close="retiring = false" @retired="reread" />

  <TakeDialog :open="taking" :system="name" @close="taking = false" />
</template>

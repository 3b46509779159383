<script setup lang="ts">
import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { useRoute } from "vue-router";
import { client, get } from "../api";
import ConcernList from "../components/ConcernList.vue";
import MatterList from "../components/MatterList.vue";
import EnrolDialog from "../components/EnrolDialog.vue";
import ProblemNote from "../components/ProblemNote.vue";
import StateWord from "../components/StateWord.vue";
import { age, when } from "../format";
import { may } from "../session";

const route = useRoute();
const enrolling = ref(route.query.enrol === "1");
const filter = ref("");
const words = ref("");
const sort = ref<"name" | "kind" | "site" | "newest_good">("name");
const down = ref(false);
const status = useQuery({
  queryKey: ["status"],
  queryFn: () => get(client.GET("/api/v1/status")),
  refetchInterval: 5_000,
});
let typing: ReturnType<typeof setTimeout> | undefined;
watch(filter, (now) => {
  clearTimeout(typing);
  typing = setTimeout(() => (words.value = now), 150);
});
const page = 100;
const systems = useInfiniteQuery({
  queryKey: ["systems", words, sort, down],
  queryFn: ({ pageParam }) =>
    get(
      client.GET("/api/v1/systems", {
        params: { query: { q: words.value, sort: sort.value, down: down.value, limit: page, after: pageParam } },
      }),
    ),
  initialPageParam: null as string | null,
  getNextPageParam: (last) => last.after,
  placeholderData: keepPreviousData,
  refetchInterval: 5_000,
});
const showMuted = ref(false);
const every = useQuery({
  queryKey: ["concerns"],
  queryFn: () => get(client.GET("/api/v1/concerns")),
  enabled: showMuted,
});
const unnamed = computed(() => {
  const found = status.data.value;
  return found ? found.concerns_in_all - found.matters.reduce((sum, matter) => sum + matter.in_all, 0) : 0;
});
const muted = computed(() => every.data.value?.items.filter((concern) => concern.muted_until) ?? []);
const rows = computed(() => systems.data.value?.pages.flatMap((part) => part.items) ?? []);
const columns = [
  ["name", "System"],
  ["kind", "Kind"],
  ["site", "Site"],
  ["newest_good", "Newest good backup"],
] as const;
function by(column: typeof sort.value): void {
  down.value = sort.value === column ? !down.value : false;
  sort.value = column;
}
</script>

<template>
  <div class="flex items-baseline justify-between">
    <h1>Estate</h1>
    <p v-if="status.data.value" class="text-sm text-muted">
      {{ when(status.data.value.at) }}<template v-if="status.data.value.simulated_clock"> (simulated clock)</template>
    </p>
  </div>
  <ProblemNote :error="status.error.value ?? systems.error.value" />
  <template v-if="status.data.value">
    <p class="mt-1 mb-3 text-muted">
      {{ status.data.value.protected }} of {{ status.data.value.systems }} systems protected · backups:
      {{ status.data.value.backups }} · stores: {{ status.data.value.stores }} · workers:
      {{ status.data.value.workers }} · active runs: {{ status.data.value.active_runs }}
    </p>
    <MatterList
      :matters="status.data.value.matters"
      :concerns="status.data.value.concerns"
      :now="status.data.value.at"
    />
    <p v-if="unnamed" class="mt-2 text-sm text-muted">
      and {{ unnamed }} more, less bad: <code>fennox concern list</code>
    </p>
    <details v-if="status.data.value.muted" class="mt-2" @toggle="showMuted = ($event.target as HTMLDetailsElement).open">
      <summary class="cursor-pointer text-sm text-muted">
        {{ status.data.value.muted === 1 ? "One concern is muted" : `${status.data.value.muted} concerns are muted` }}
      </summary>
      <ConcernList v-if="muted.length" class="mt-2" :concerns="muted" :now="status.data.value.at" />
    </details>
  </template>

  <div class="mt-8 mb-2 flex flex-wrap items-end gap-4">
    <h2 class="m-0!">Systems</h2>
    <label class="ml-auto flex items-baseline gap-2 text-sm text-muted"
      >Filter <input v-model="filter" class="field w-52" placeholder="name, kind, site, label"
    /></label>
    <button v-if="may('administrator')" type="button" class="button" @click="enrolling = true">Enrol a system</button>
  </div>
  <div v-if="rows.length" class="scroll" tabindex="0">
    <table>
      <thead>
        <tr>
          <th v-for="[column, title] in columns" :key="column" :aria-sort="sort === column ? (down ? 'descending' : 'ascending') : 'none'">
            <button type="button" class="cursor-pointer text-left hover:text-ink" @click="by(column)">
              {{ title }}<span v-if="sort === column" aria-hidden="true">{{ down ? " ↓" : " ↑" }}</span>
            </button>
          </th>
          <th>Next run</th>
          <th>Held in</th>
          <th>Missing</th>
          <th>Last run</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="system in rows" :key="system.id">
          <td class="whitespace-nowrap">
            <RouterLink :to="`/systems/${system.name}`" class="font-semibold">{{ system.name }}</RouterLink>
          </td>
          <td class="whitespace-nowrap">{{ system.kind }}</td>
          <td class="whitespace-nowrap">{{ system.site || "–" }}</td>
          <td class="whitespace-nowrap">
            <span v-if="system.spare" class="text-muted">a spare</span>
            <span v-else :class="system.newest_good ? '' : 'font-semibold text-ember'">{{
              age(system.newest_good, status.data.value?.at)
            }}</span>
            <span class="text-sm text-muted"> · {{ system.backups }} {{ system.backups === 1 ? "backup" : "backups" }}</span>
          </td>
          <td class="whitespace-nowrap">{{ system.next_run ? when(system.next_run) : system.retired ? "retired" : system.spare ? "–" : "by hand" }}</td>
          <td>{{ system.stores.join(", ") || "–" }}</td>
          <td>
            <span v-if="system.missing.length" class="text-warn">{{ system.missing[0]?.text }}</span
            ><span v-else class="text-muted">nothing</span>
          </td>
          <td class="whitespace-nowrap">
            <RouterLink v-if="system.active_run" :to="`/runs/${system.active_run.id}`"
              >{{ system.active_run.kind }} <StateWord :state="system.active_run.state"
            /></RouterLink>
            <RouterLink v-else-if="system.last_run" :to="`/runs/${system.last_run.id}`"
              >{{ system.last_run.kind }} <StateWord :state="system.last_run.state"
            /></RouterLink>
            <span v-else class="text-muted">–</span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <button
    v-if="systems.hasNextPage.value"
    type="button"
    class="button mt-3"
    :disabled="systems.isFetchingNextPage.value"
    @click="systems.fetchNextPage()"
  >
    {{ page }} more of {{ status.data.value?.systems }} systems
  </button>
  <p v-if="!rows.length && systems.data.value && !words" class="mt-3">
    No system is enrolled yet.
    <template v-if="status.data.value?.stores">Enrol the first one.</template>
    <template v-else>Begin with a <RouterLink to="/stores?add=1">store</RouterLink> to keep backups in.</template>
  </p>
  <p v-else-if="!rows.length && systems.data.value" class="mt-3 text-muted">No system fits the filter.</p>
  <EnrolDialog :open="enrolling" @close="enrolling = false" />
</template>

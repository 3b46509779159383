<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, onMounted, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { client, get } from "../api";
import AskDialog from "../components/AskDialog.vue";
import ProblemNote from "../components/ProblemNote.vue";
import RunProgress from "../components/RunProgress.vue";
import SpaceLine from "../components/SpaceLine.vue";
import { useFollowed } from "../follow";
import { size, when } from "../format";
import { may } from "../session";

const route = useRoute();
const router = useRouter();
const queries = useQueryClient();
const name = computed(() => String(route.params.name));
const at = computed(() => ({ params: { path: { name: name.value } } }));
const store = useQuery({
  queryKey: computed(() => ["stores", name.value]),
  queryFn: () => get(client.GET("/api/v1/stores/{name}", at.value)),
  refetchInterval: 10_000,
});
const damage = useQuery({
  queryKey: computed(() => ["stores", name.value, "damage"]),
  queryFn: () => get(client.GET("/api/v1/stores/{name}/damage", at.value)),
});
const space = useQuery({
  queryKey: computed(() => ["stores", name.value, "space"]),
  queryFn: () => get(client.GET("/api/v1/stores/{name}/space", at.value)),
});
const sets = useQuery({ queryKey: ["key-sets"], queryFn: () => get(client.GET("/api/v1/key-sets")) });
const keys = computed(() => sets.data.value?.items.find((item) => item.name === store.data.value?.key_set));
const test = useMutation({ mutationFn: () => get(client.POST("/api/v1/stores/{name}/test", at.value)) });
const runId = ref<string | null>(null);
const { run, now } = useFollowed(runId);
const scrub = useMutation({
  mutationFn: () => get(client.POST("/api/v1/stores/{name}/scrub", at.value)),
  onSuccess: (begun) => (runId.value = begun.id),
});
const asking = ref(false);
const sweep = useMutation({
  mutationFn: (preview: boolean) =>
    get(
      client.POST("/api/v1/stores/{name}/sweep", {
        params: { path: { name: name.value }, query: { preview } },
      }),
    ),
  onSuccess: (begun) => (runId.value = begun.id),
});
const preview = computed(() =>
  run.value?.result?.kind === "preview" ? run.value.result : null,
);
const result = computed(() => run.value?.result ?? null);
const phrase = ref("");
const trial = useMutation({
  mutationFn: () =>
    get(
      client.POST("/api/v1/key-sets/{name}/try", {
        params: { path: { name: store.data.value?.key_set ?? "" } },
        body: { passphrase: phrase.value },
      }),
    ),
  onSuccess: async () => {
    phrase.value = "";
    await queries.invalidateQueries({ queryKey: ["key-sets"] });
  },
});
onMounted(() => {
  if (route.query.test === "1" && may("operator")) {
    test.mutate();
    void router.replace({ query: {} });
  }
});
function refresh(): void {
  void queries.invalidateQueries({ queryKey: ["stores"] });
}
function begin(): void {
  asking.value = false;
  sweep.mutate(false);
}
</script>

<template>
  <p class="text-sm"><RouterLink to="/stores">Stores</RouterLink></p>
  <ProblemNote :error="store.error.value" />
  <template v-if="store.data.value">
    <div class="flex flex-wrap items-baseline gap-3">
      <h1>{{ store.data.value.name }}</h1>
      <code class="break-all">{{ store.data.value.address }}</code>
      <span v-if="store.data.value.plain" class="font-semibold text-warn">plain</span>
      <div v-if="may('operator')" class="ml-auto flex gap-2">
        <button type="button" class="button" :disabled="test.isPending.value" @click="test.mutate()">Test</button>
        <button type="button" class="button" :disabled="scrub.isPending.value" @click="scrub.mutate()">Scrub</button>
        <button
          v-if="may('administrator')"
          type="button"
          class="button"
          :disabled="sweep.isPending.value"
          @click="sweep.mutate(true)"
        >
          Sweep …
        </button>
      </div>
    </div>
    <ProblemNote :error="test.error.value ?? scrub.error.value ?? sweep.error.value" />

    <section v-if="test.data.value" aria-live="polite">
      <h2>Test</h2>
      <ul>
        <li v-for="check in test.data.value.checks" :key="check.title" class="py-0.5">
          <span class="inline-block w-20 text-sm font-semibold" :class="check.passed ? 'text-good' : 'text-ember'">{{
            check.passed ? "Passed" : "Failed"
          }}</span>
          {{ check.title }} <span class="text-muted">{{ check.detail }}</span>
        </li>
      </ul>
    </section>

    <section v-if="run" class="mt-4 border border-line p-4">
      <h2 class="mt-0!">{{ run.kind === "scrub" ? "Scrub" : "Sweep" }}</h2>
      <RunProgress :run="run" :now="now" />
      <template v-if="preview">
        <p class="mt-3">
          A sweep removes {{ preview.records }} backups that nothing keeps and deletes {{ preview.deleted }} packs whose
          grace is over: {{ size(preview.freed) }} are free at once. It condemns {{ preview.condemned }} packs more:
          {{ size(preview.later) }} are free after 48 hours.
        </p>
        <button type="button" class="button button-ember mt-3" @click="asking = true">Sweep now …</button>
      </template>
      <p v-else-if="result?.kind === 'sweep'" class="mt-3">
        {{ result.records }} backups were removed, {{ result.deleted }} packs deleted, {{ size(result.freed) }} freed;
        {{ size(result.later) }} more after the grace.
      </p>
      <p v-else-if="result?.kind === 'scrub'" class="mt-3">
        {{ result.objects }} objects with {{ size(result.bytes) }} were read and checked.
        <template v-if="result.damaged"
          >Faults: {{ result.damaged }} found, {{ result.healed }} healed.</template
        >
        <template v-else>Nothing is damaged.</template>
        <button type="button" class="ml-2 cursor-pointer underline" @click="refresh">Show it below</button>
      </p>
    </section>

    <div class="mt-4 grid gap-x-10 md:grid-cols-2">
      <table>
        <tbody>
          <tr>
            <td class="text-muted">Backups</td>
            <td>{{ store.data.value.backups }}, newest {{ when(store.data.value.newest) }}</td>
          </tr>
          <tr>
            <td class="text-muted">Room</td>
            <td>
              <template v-if="store.data.value.free !== null"
                >{{ size(store.data.value.free) }} free of {{ size(store.data.value.total ?? 0) }}</template
              ><template v-else>not reported by this protocol</template>
            </td>
          </tr>
          <tr v-if="store.data.value.login">
            <td class="text-muted">Login</td>
            <td>{{ store.data.value.login }}</td>
          </tr>
          <tr v-if="store.data.value.sweep_login">
            <td class="text-muted">Sweeps as</td>
            <td>{{ store.data.value.sweep_login }}, which alone removes things</td>
          </tr>
          <tr v-if="store.data.value.key">
            <td class="text-muted">Accepted as</td>
            <td class="break-all"><code>{{ store.data.value.key }}</code></td>
          </tr>
          <tr v-if="store.data.value.site">
            <td class="text-muted">Site</td>
            <td>{{ store.data.value.site }}</td>
          </tr>
          <tr v-if="store.data.value.ceiling">
            <td class="text-muted">Ceiling</td>
            <td>
              {{ store.data.value.ceiling }} for backups<template v-if="store.data.value.over_since"
                >; above it since {{ when(store.data.value.over_since) }}</template
              >
            </td>
          </tr>
          <tr>
            <td class="text-muted">Last scrub</td>
            <td>{{ store.data.value.scrubbed ? when(store.data.value.scrubbed) : "never" }}</td>
          </tr>
          <tr>
            <td class="text-muted">Last sweep</td>
            <td>{{ store.data.value.swept ? when(store.data.value.swept) : "never" }}</td>
          </tr>
          <tr>
            <td class="text-muted">Sealed by</td>
            <td>
              {{
                store.data.value.suite.startsWith("mlkem")
                  ? "hybrid: ML-KEM-768 and X25519 together"
                  : "classic: X25519"
              }}, keys of generation {{ store.data.value.generation }}
            </td>
          </tr>
          <tr>
            <td class="text-muted">Custody</td>
            <td>
              {{
                store.data.value.custody === "kept"
                  ? "kept: the service can open it too, so it verifies by itself"
                  : "apart: only a passphrase opens it; restores and verifying ask for it"
              }}
            </td>
          </tr>
        </tbody>
      </table>
      <div>
        <h2 class="md:mt-0!">Look at</h2>
        <p v-if="!store.data.value.warnings.length" class="text-muted">Nothing is doubtful about this store.</p>
        <ul>
          <li v-for="warning in store.data.value.warnings" :key="warning" class="border-l-2 border-warn py-1 pl-3">
            {{ warning }}
          </li>
        </ul>
      </div>
    </div>

    <h2>Room used</h2>
    <SpaceLine :looks="space.data.value?.items ?? []" />

    <h2>Found damaged</h2>
    <p v-if="!damage.data.value?.items.length" class="text-muted">
      Nothing was ever found damaged. A scrub reads every object once a week.
    </p>
    <div v-else class="overflow-x-auto">
      <table>
        <thead>
          <tr>
            <th>Found</th>
            <th>Object</th>
            <th>What</th>
            <th>Needed by</th>
            <th>Healed</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="item in damage.data.value.items" :key="item.object + item.found">
            <td>{{ when(item.found) }}</td>
            <td class="max-w-72 min-w-56 break-all"><code>{{ item.object }}</code></td>
            <td>{{ item.what }}</td>
            <td>
              <template v-for="backup in item.backups.slice(0, 3)" :key="backup">
                <RouterLink :to="`/backups/${backup}`">{{ backup.slice(0, 12) }}</RouterLink
                ><br />
              </template>
              <template v-if="item.backups.length > 3">and {{ item.backups.length - 3 }} more</template>
            </td>
            <td>
              <template v-if="item.healed">{{ when(item.healed) }}: {{ item.how }}</template>
              <span v-else class="font-semibold text-ember">not yet</span>
            </td>
          </tr>
        </tbody>
      </table>
    </div>

    <h2>Passphrases of the key set {{ store.data.value.key_set }}</h2>
    <table>
      <thead>
        <tr>
          <th>Passphrase</th>
          <th>Since</th>
          <th>Last tried</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="item in keys?.passphrases" :key="item.id">
          <td>{{ item.label }}</td>
          <td>{{ when(item.since) }}</td>
          <td>
            <template v-if="item.tried">{{ when(item.tried) }}, by {{ item.tried_by }}</template>
            <span v-else class="font-semibold text-warn">never: try it before the day it is needed</span>
          </td>
        </tr>
      </tbody>
    </table>
    <form v-if="may('operator')" class="mt-3 flex flex-wrap items-end gap-3" @submit.prevent="trial.mutate()">
      <div>
        <label class="label mt-0!" for="trial">Try a passphrase</label>
        <input id="trial" v-model="phrase" type="password" class="field" required autocomplete="off" />
      </div>
      <button class="button" :disabled="trial.isPending.value">Try it</button>
      <p v-if="trial.data.value && !trial.error.value" role="status" class="text-good">It opens this store.</p>
    </form>
    <ProblemNote :error="trial.error.value" />

    <AskDialog :open="asking" :title="`Sweep ${store.data.value.name}`" @close="asking = false">
      <p>
        {{ preview?.records ?? 0 }} backups that nothing keeps go for good. Packs that nothing needs are condemned now
        and deleted after 48 hours. What is on hold or kept by a ladder stays.
      </p>
      <div class="mt-4 flex gap-3">
        <button type="button" class="button button-ember" @click="begin">Sweep</button>
        <button type="button" class="cursor-pointer text-muted" @click="asking = false">Cancel</button>
      </div>
    </AskDialog>
  </template>
</template>

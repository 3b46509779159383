<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { computed, reactive, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { client, get, ProblemError, type Schema } from "../api";
import AcceptKey from "../components/AcceptKey.vue";
import RunProgress from "../components/RunProgress.vue";
import SheetList from "../components/SheetList.vue";
import { useFollowed } from "../follow";
import { age, size, when } from "../format";
import { may, reachesAll } from "../session";

const route = useRoute();
const router = useRouter();
const system = ref("");
const backup = ref(String(route.query.backup ?? ""));
type Purpose = Schema["NewDraft"]["purpose"];
const purposes: { value: Purpose; happened: string; means: string }[] = [
  {
    value: "repair",
    happened: "Settings are wrong or lost, or the machine was reinstalled at its address:",
    means: "the system's own machine, or it reinstalled, at its address",
  },
  {
    value: "replace",
    happened: "The machine is gone:",
    means: "a new machine takes the system's place once you accept the proof",
  },
  {
    value: "practise",
    happened: "Nothing yet:",
    means: "onto a spare or a fresh machine; nothing of the estate changes",
  },
  {
    value: "seed",
    happened: "Another machine like it is wanted:",
    means: "a new machine becomes a new system, made from this backup",
  },
];
const purpose = ref<Purpose | null>(route.query.deployed ? "replace" : null);
const spare = ref("");
const newName = ref("");
const elsewhere = computed(
  () => purpose.value !== null && purpose.value !== "repair" && !(purpose.value === "practise" && spare.value),
);
const at = ref("");
/** The new machine that was made for the system, if it is one of those. */
const deployed = ref(String(route.query.deployed ?? ""));
const besideLogin = ref("");
const singles = reactive<Record<string, string>>({});
const login = ref("");
const parts = ref<string[]>([]);
const accepted = ref<string | null>(null);
const entrance = reactive({ at: null as string | null, login: null as string | null, key: null as string | null });
const runId = ref<string | null>(null);
const { run, now } = useFollowed(runId);
const systems = useQuery({ queryKey: ["system-names"], queryFn: () => get(client.GET("/api/v1/system-names")) });
const logins = useQuery({ queryKey: ["logins"], queryFn: () => get(client.GET("/api/v1/logins")) });
const spares = useQuery({
  queryKey: ["spares"],
  queryFn: () => get(client.GET("/api/v1/systems", { params: { query: { spare: true, limit: 500 } } })),
});
const chosen = useQuery({
  queryKey: computed(() => ["backup", backup.value]),
  queryFn: () => get(client.GET("/api/v1/backups/{backup}", { params: { path: { backup: backup.value } } })),
  enabled: computed(() => backup.value !== ""),
});
const backups = useQuery({
  queryKey: computed(() => ["backups", system.value, "desk"]),
  queryFn: () => get(client.GET("/api/v1/backups", { params: { query: { system: system.value, limit: 500 } } })),
  enabled: computed(() => system.value !== ""),
});
watch(
  () => chosen.data.value,
  (found) => {
    if (!found) return;
    system.value = found.system;
    parts.value = found.parts.map((part) => part.name);
  },
  { immediate: true },
);
const draft = useMutation({
  mutationFn: () =>
    get(
      client.POST("/api/v1/restores", {
        body: {
          backup: backup.value,
          purpose: purpose.value!,
          new_name: purpose.value === "seed" ? newName.value : null,
          onto: purpose.value === "practise" && spare.value ? spare.value : null,
          at: elsewhere.value ? at.value : null,
          login: elsewhere.value && login.value ? login.value : null,
          key: accepted.value,
          entrance,
          parts: parts.value.length === chosen.data.value?.parts.length ? null : parts.value,
          place: {},
          only: only.value,
          beside: elsewhere.value && besideLogin.value ? besideLogin.value : null,
          peers: asksWhoWins.value ? stance.value : null,
          claim: asksWhoWins.value && stance.value === "win" ? claim.value.trim() : "",
          wait: true,
        },
      }),
    ),
  onSuccess: (started) => {
    runId.value = started.id;
  },
});
watch(run, async (seen) => {
  if (seen?.result?.kind === "draft") await router.push(`/restores/${seen.result.sheet}`);
});
/** A safety copy is no backup of the system: its own sheet leads back to it. */
const offered = computed(() => (backups.data.value?.items ?? []).filter((item) => item.purpose !== "safety"));
// The browser refuses to send a form whose chosen backup is not among the options yet, and says nothing.
const ready = computed(
  () =>
    offered.value.some((item) => item.id === backup.value) &&
    parts.value.length > 0 &&
    purpose.value !== null,
);
const kindOf = computed(() => systems.data.value?.items.find((item) => item.name === system.value)?.kind);
/** Spares of the same kind as the system; the first one is proposed. */
const fitting = computed(() => (spares.data.value?.items ?? []).filter((item) => item.kind === kindOf.value));
watch(fitting, (found) => {
  spare.value = found[0]?.name ?? "";
});
const kinds = useQuery({ queryKey: ["kinds"], queryFn: () => get(client.GET("/api/v1/kinds")) });
const kind = computed(() => kinds.data.value?.items.find((item) => item.name === kindOf.value));
/** Of each list, the chosen names: put back alone, of parts that hold nothing else. */
const only = computed(() =>
  Object.fromEntries(
    Object.keys(kind.value?.singles ?? {})
      .map((listed): [string, string[]] => [listed, (singles[listed] ?? "").split(",").map((name) => name.trim()).filter(Boolean)])
      .filter(([, names]) => names.length),
  ),
);
watch(only, (wanted, before) => {
  const lists = Object.keys(wanted);
  if (lists.join() === Object.keys(before).join()) return;
  parts.value = lists.length
    ? [...new Set(lists.flatMap((listed) => kind.value?.singles[listed] ?? []))]
    : (chosen.data.value?.parts ?? []).map((part) => part.name);
});
const deployments = useQuery({
  queryKey: ["deployments"],
  queryFn: () => get(client.GET("/api/v1/deployments", { params: { query: { limit: 200 } } })),
  enabled: computed(() => reachesAll()),
});
const machines = computed(() =>
  (deployments.data.value?.items ?? []).filter((item) => item.state === "made" && item.system === system.value),
);
const machine = useQuery({
  queryKey: computed(() => ["deployment", deployed.value]),
  queryFn: () =>
    get(client.GET("/api/v1/deployments/{deployment}", { params: { path: { deployment: deployed.value } } })),
  enabled: computed(() => deployed.value !== ""),
});
watch(
  () => machine.data.value?.deployment,
  (made) => {
    if (!made || made.state !== "made") return;
    at.value = made.address;
    accepted.value = made.key;
  },
  { immediate: true },
);
/** It was made for one system, which is gone. */
watch(purpose, () => (deployed.value = ""));
watch(deployed, (id) => {
  if (id) return;
  at.value = "";
  accepted.value = null;
});
const hasEntrance = computed(() => kind.value?.entrance ?? "");
/** A copy for practice, or of a new system, never meets the set. */
const asksWhoWins = computed(
  () => kind.value?.decides === true && (purpose.value === "repair" || purpose.value === "replace"),
);
const stance = ref<"win" | "yield" | null>(null);
const claim = ref("");
const ofEntrance = computed(
  () => draft.error.value instanceof ProblemError && draft.error.value.problem.field === "entrance.key",
);
function accept(fingerprint: string): void {
  if (ofEntrance.value) entrance.key = fingerprint;
  else accepted.value = fingerprint;
  draft.mutate();
}
</script>

<template>
  <h1>Restore desk</h1>
  <p class="mt-1 text-muted">
    Four steps to a run sheet. It shows everything that will happen before anything is changed.
  </p>
  <form v-if="may('operator')" class="mt-2 max-w-4xl" @submit.prevent="draft.mutate()">
    <h2>1. What happened?</h2>
    <fieldset>
      <legend class="sr-only">What is it for?</legend>
      <label v-for="item in purposes" :key="item.value" class="block py-1"
        ><input v-model="purpose" type="radio" name="purpose" :value="item.value" class="mr-2 accent-slate" />{{ item.happened }}
        <b class="mx-1">{{ item.value }}</b
        ><span class="text-muted">{{ item.means }}</span></label
      >
    </fieldset>

    <h2>2. Which system, and which backup?</h2>
    <div class="grid gap-x-8 md:grid-cols-2">
      <div>
        <label class="label" for="desk-system">System</label>
        <select id="desk-system" v-model="system" class="field" @change="((backup = ''), (deployed = ''))">
          <option value="" disabled>choose</option>
          <option v-for="item in systems.data.value?.items" :key="item.id" :value="item.name">{{ item.name }}</option>
        </select>
        <label class="label" for="desk-backup">Backup</label>
        <select id="desk-backup" v-model="backup" class="field" required>
          <option value="" disabled>choose</option>
          <option v-for="item in offered" :key="item.id" :value="item.id">
            {{ when(item.time) }} {{ item.name }} {{ item.unchanged ? "(unchanged)" : "" }}
          </option>
        </select>
        <p v-if="system && backups.data.value && !offered.length" class="mt-2 text-muted">
          {{ system }} has no backup yet. Take one from <RouterLink :to="`/systems/${system}`">its page</RouterLink>.
        </p>
        <fieldset v-if="chosen.data.value" class="mt-3">
          <legend class="text-sm text-muted">Parts</legend>
          <label v-for="part in chosen.data.value.parts" :key="part.name" class="mr-4 inline-block">
            <input v-model="parts" type="checkbox" :value="part.name" class="mr-1 accent-slate" />{{ part.name }}
          </label>
        </fieldset>
        <template v-if="chosen.data.value">
          <div v-for="listed in Object.keys(kind?.singles ?? {})" :key="listed">
            <label class="label" :for="`desk-only-${listed}`">Only these {{ listed }} (names with commas; empty: all)</label>
            <input :id="`desk-only-${listed}`" v-model="singles[listed]" class="field font-mono" />
          </div>
        </template>
      </div>
      <div v-if="chosen.data.value" class="mt-3 text-sm">
        <p>
          <b>{{ age(chosen.data.value.time) }} old</b>, {{ chosen.data.value.machine.product }} {{ chosen.data.value.machine.version }},
          {{ chosen.data.value.documents }} documents, {{ size(chosen.data.value.bytes) }}, in {{ chosen.data.value.stores.join(", ") }}.
          {{ chosen.data.value.note }}
        </p>
        <ul class="mt-2 ml-5 list-disc text-muted">
          <li v-for="line in chosen.data.value.worth" :key="line">{{ line }}</li>
        </ul>
        <p class="mt-2">
          <RouterLink :to="`/compare?system=${chosen.data.value.system}&before=${backup}&after=live`">What has changed since</RouterLink>
        </p>
      </div>
    </div>

    <h2>3. Onto which machine?</h2>
    <p v-if="purpose === null" class="text-muted">Say first what happened.</p>
    <p v-else-if="purpose === 'repair'" class="text-muted">The system's own machine, at its address.</p>
    <template v-if="purpose === 'seed'">
      <label class="label" for="desk-new-name">Name of the new system</label>
      <input id="desk-new-name" v-model="newName" class="field" required />
    </template>
    <template v-if="purpose === 'practise' && fitting.length">
      <label class="label" for="desk-spare">Spare</label>
      <select id="desk-spare" v-model="spare" class="field" @change="accepted = null">
        <option value="">none: a fresh machine at another address</option>
        <option v-for="item in fitting" :key="item.id" :value="item.name">{{ item.name }}</option>
      </select>
    </template>
    <template v-if="elsewhere && backup && reachesAll()">
      <template v-if="machines.length">
        <label class="label" for="desk-deployed">New machine that was made for it</label>
        <select id="desk-deployed" v-model="deployed" class="field">
          <option value="">none: another machine</option>
          <option v-for="item in machines" :key="item.id" :value="item.id">{{ item.name }} on {{ item.host }}, at {{ item.address }}</option>
        </select>
      </template>
      <p class="mt-2 text-sm text-muted">
        Is there no machine? <RouterLink :to="`/deployments?backup=${backup}`">Have a machine made</RouterLink> on a host that is
        enrolled.
      </p>
    </template>
    <div v-if="elsewhere" class="grid gap-x-8 md:grid-cols-2">
      <div>
        <label class="label" for="desk-at">Address and port of the fresh machine</label>
        <input id="desk-at" v-model="at" class="field font-mono" required :readonly="deployed !== ''" @input="accepted = null" />
      </div>
      <div>
        <label class="label" for="desk-login">Login of the fresh machine</label>
        <select id="desk-login" v-model="login" class="field">
          <option value="">the system's own</option>
          <option v-for="item in logins.data.value?.items" :key="item.id" :value="item.name">
            {{ item.name }} ({{ item.account }})
          </option>
        </select>
      </div>
      <div v-if="kind?.beside">
        <label class="label" for="desk-beside">Login of its further way ({{ kind.beside }})</label>
        <select id="desk-beside" v-model="besideLogin" class="field">
          <option value="">the system's own</option>
          <option v-for="item in logins.data.value?.items" :key="item.id" :value="item.name">
            {{ item.name }} ({{ item.account }})
          </option>
        </select>
      </div>
    </div>
    <template v-if="asksWhoWins">
      <p class="label">Where it meets its peers</p>
      <label class="block py-1"
        ><input v-model="stance" type="radio" name="stance" value="win" class="mr-2 accent-slate" />The restored copy wins:
        <span class="text-muted">what the peers have done since is replaced</span></label
      >
      <label class="block py-1"
        ><input v-model="stance" type="radio" name="stance" value="yield" class="mr-2 accent-slate" />The peers win:
        <span class="text-muted">they bring the restored copy forward</span></label
      >
      <template v-if="stance === 'win'">
        <label class="label" for="desk-claim">Only this subtree or object (empty: all)</label>
        <input id="desk-claim" v-model="claim" class="field font-mono" />
      </template>
    </template>
    <template v-if="hasEntrance">
      <label class="label" for="desk-entrance">Login of the entrance that the restore takes ({{ hasEntrance }})</label>
      <select id="desk-entrance" v-model="entrance.login" class="field">
        <option :value="null">that of the target</option>
        <option v-for="item in logins.data.value?.items" :key="item.id" :value="item.name">
          {{ item.name }} ({{ item.account }})
        </option>
      </select>
    </template>
    <AcceptKey
      :error="draft.error.value"
      :whose="ofEntrance ? 'The entrance that the restore takes' : 'The target'"
      @accept="accept"
    />

    <h2>4. Read what will happen</h2>
    <p class="text-muted">
      The run sheet shows values of the place, what is overwritten, every step and the way back. Nothing begins before you type the
      system's name there.
    </p>
    <p class="mt-3">
      <button class="button" :disabled="!ready || draft.isPending.value">Draft the run sheet</button>
      <span class="ml-3 text-sm text-muted">Changes nothing.</span>
    </p>
    <RunProgress v-if="run" class="mt-3" :run="run" :now="now" />
  </form>

  <h2>Run sheets</h2>
  <p v-if="reachesAll()" class="text-sm text-muted">Machines that were made for restores: <RouterLink to="/deployments">New machines</RouterLink>.</p>
  <SheetList />
</template>

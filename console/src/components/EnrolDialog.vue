<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { client, get } from "../api";
import { size, until } from "../format";
import { useLoginChoice } from "../logins";
import AcceptKey from "./AcceptKey.vue";
import AskDialog from "./AskDialog.vue";
import FindingList from "./FindingList.vue";
import LoginSelect from "./LoginSelect.vue";
import NewLogin from "./NewLogin.vue";

/** Three steps: where it is and as whom; what answers there and what is lacking; its name, and what it needs. */
defineProps<{ open: boolean }>();
const emit = defineEmits<{ close: [] }>();
const router = useRouter();
const queries = useQueryClient();
const kinds = useQuery({ queryKey: ["kinds"], queryFn: () => get(client.GET("/api/v1/kinds")) });
const systems = useQuery({ queryKey: ["system-names"], queryFn: () => get(client.GET("/api/v1/system-names")) });
const workers = useQuery({ queryKey: ["sites"], queryFn: () => get(client.GET("/api/v1/sites")) });
const address = ref("");
const here = computed(() => address.value.replace(/:\d+$/, "") === "here");
const choice = useLoginChoice(() => here.value);
const via = ref("");
const kind = ref("");
const name = ref("");
const site = ref("");
const spare = ref(false);
const needs = ref<string[]>([]);
const settings = ref<Record<string, string>>({});
const accepted = ref<string | null>(null);
const reached = computed(() => kinds.data.value?.items.filter((item) => ["ssh", "https"].includes(item.reach)) ?? []);
const chosen = computed(() => kinds.data.value?.items.find((item) => item.name === found.value?.kind));
const sites = computed(() =>
  [
    ...new Set([
      ...(workers.data.value?.items.map((item) => item.name) ?? []),
      ...(systems.data.value?.items.map((item) => item.site) ?? []),
    ]),
  ]
    .filter(Boolean)
    .sort(),
);
const bySite = computed(() => workers.data.value?.items.find((item) => item.name === site.value));
const others = computed(() => systems.data.value?.items.filter((item) => item.kind !== "fennox") ?? []);

const look = useMutation({
  mutationFn: async () =>
    get(
      client.POST("/api/v1/systems/look", {
        body: {
          address: address.value,
          login: await choice.used(),
          key: accepted.value,
          kind: kind.value || null,
          site: site.value,
          via: via.value || null,
          settings: {},
        },
      }),
    ),
  onSuccess: (answer) => {
    if (answer.machine && !name.value)
      name.value = answer.machine.name.toLowerCase().replace(/[^a-z0-9-]+/g, "-").slice(0, 48);
  },
});
const offered = computed(() => (look.data.value && !look.data.value.accepted ? look.data.value.key : null));
const found = computed(() => (look.data.value?.machine ? look.data.value : null));
const several = computed(() => (look.data.value?.accepted && !look.data.value.kind ? look.data.value.fits : []));

const enrol = useMutation({
  mutationFn: async () => {
    const seen = found.value;
    if (!seen?.kind) throw new Error("nothing was inspected");
    const given = Object.fromEntries(Object.entries(settings.value).filter(([, value]) => value !== ""));
    return get(
      client.POST("/api/v1/systems", {
        body: {
          name: name.value,
          kind: seen.kind,
          address: seen.address,
          login: await choice.used(),
          key: seen.key,
          via: via.value || null,
          needs: needs.value,
          settings: given,
          site: site.value,
          labels: [],
          patience: 15,
          spare: spare.value,
        },
      }),
    );
  },
  onSuccess: async (system) => {
    choice.forget();
    await queries.invalidateQueries();
    emit("close");
    await router.push(`/systems/${system.name}`);
  },
});
function accept(fingerprint: string): void {
  accepted.value = fingerprint;
  look.mutate();
}
function choose(fitting: string): void {
  kind.value = fitting;
  look.mutate();
}
function again(): void {
  look.reset();
  enrol.reset();
}
</script>

<template>
  <AskDialog :open="open" title="Enrol a system" @close="$emit('close')">
    <form v-if="!found" @submit.prevent="look.mutate()">
      <p class="text-sm text-muted">First: where is it, and as whom may Fennox read it? Looking keeps nothing.</p>
      <div class="grid grid-cols-2 gap-x-4">
        <div>
          <label class="label" for="enrol-address">Address</label>
          <input
            id="enrol-address"
            v-model="address"
            class="field font-mono"
            required
            placeholder="10.1.2.3 or host:port"
            @input="accepted = null"
          />
        </div>
        <div>
          <LoginSelect :choice="choice" title="Login" />
        </div>
      </div>
      <NewLogin :choice="choice" :by-key="true" :here="here" becomes />
      <div class="grid grid-cols-3 gap-x-4">
        <div>
          <label class="label" for="enrol-kind">Kind</label>
          <select id="enrol-kind" v-model="kind" class="field">
            <option value="">whatever answers</option>
            <option v-for="item in reached" :key="item.name" :value="item.name">{{ item.title }}</option>
          </select>
        </div>
        <div>
          <label class="label" for="enrol-site">Site</label>
          <input id="enrol-site" v-model="site" class="field" list="enrol-sites" placeholder="saltmere-quay" />
          <datalist id="enrol-sites">
            <option v-for="known in sites" :key="known" :value="known" />
          </datalist>
        </div>
        <div>
          <label class="label" for="enrol-via">Reached through</label>
          <select id="enrol-via" v-model="via" class="field">
            <option value="">directly</option>
            <option v-for="item in others" :key="item.id" :value="item.name">{{ item.name }}</option>
          </select>
        </div>
      </div>
      <p v-if="bySite" class="mt-2 text-sm text-muted">
        It is reached through the worker of {{ site }}, which
        {{ bySite.connected ? "is connected" : "is not connected: nothing there can be reached now" }}.
      </p>
      <div v-if="offered" class="mt-4 border-l-4 border-ember bg-ember-soft px-3 py-2">
        <p>{{ look.data.value?.address }} shows this fingerprint. Compare it with the machine's own before you accept it.</p>
        <p class="my-1 break-all"><code>{{ offered }}</code></p>
        <button type="button" class="button button-ember" @click="accept(offered)">It is the right one: accept</button>
      </div>
      <div v-if="several.length" class="mt-4 border-l-4 border-slate px-3 py-2">
        <p>Several kinds fit what answers. Which one is it?</p>
        <p class="mt-1 flex flex-wrap gap-2">
          <button v-for="fitting in several" :key="fitting" type="button" class="button" @click="choose(fitting)">
            {{ fitting }}
          </button>
        </p>
      </div>
      <AcceptKey :error="look.error.value" whose="The machine" @accept="accept" />
      <div class="mt-4 flex items-center gap-3">
        <button class="button" :disabled="look.isPending.value">Look at it</button>
        <button type="button" class="cursor-pointer text-muted" @click="$emit('close')">Cancel</button>
        <span v-if="look.isPending.value" class="text-sm text-muted" role="status">Reading it once …</span>
      </div>
    </form>

    <form v-else @submit.prevent="enrol.mutate()">
      <p>
        <code>{{ found.address }}</code> is a <b>{{ chosen?.title ?? found.kind }}</b
        >: {{ found.machine?.name }}, {{ found.machine?.product }} {{ found.machine?.version }}.
      </p>
      <p v-if="found.enrolled_as" class="font-semibold text-ember">It is enrolled already, as {{ found.enrolled_as }}.</p>
      <table class="mt-2">
        <caption class="sr-only">
          What a backup of it would hold
        </caption>
        <tbody>
          <tr v-for="part in found.parts" :key="part.name">
            <td>{{ part.title }}</td>
            <td class="whitespace-nowrap text-right">{{ part.documents === 1 ? "1 document" : `${part.documents} documents` }}</td>
            <td class="whitespace-nowrap text-right">{{ size(part.bytes) }}</td>
          </tr>
        </tbody>
      </table>
      <p class="mt-1 text-sm text-muted">
        Counted:
        {{
          Object.entries(found.census)
            .filter(([, count]) => count > 0)
            .map(([list, count]) => `${count} ${list}`)
            .join(", ")
        }}.
      </p>
      <FindingList v-if="found.findings.length" class="mt-2" :findings="found.findings" />
      <ul v-if="found.related.length || found.certificates.length" class="mt-2 list-disc pl-5 text-sm">
        <li v-for="sentence in found.related" :key="sentence">{{ sentence }}</li>
        <li v-for="item in found.certificates" :key="item.document + item.subject">
          The certificate {{ item.document ? `in ${item.document}` : "that it presents" }} ({{ item.subject }}) ends
          {{ until(item.until) }}.
        </li>
      </ul>
      <details v-if="found.left_out.length" class="mt-2 text-sm">
        <summary class="cursor-pointer text-muted">What stays out</summary>
        <p v-for="text in found.left_out" :key="text">{{ text }}</p>
      </details>
      <label class="label" for="enrol-name">Name</label>
      <input id="enrol-name" v-model="name" class="field" required placeholder="web-9" />
      <label class="mt-2 block"
        ><input v-model="spare" type="checkbox" class="mr-1 accent-slate" />a spare to practise restores on: it may be
        overwritten, and no routine takes it</label
      >
      <template v-if="others.length">
        <label class="label" for="enrol-needs">Systems that must be back before it</label>
        <select id="enrol-needs" v-model="needs" class="field" multiple :size="Math.min(4, others.length)">
          <option v-for="item in others" :key="item.id" :value="item.name">{{ item.name }}</option>
        </select>
      </template>
      <details class="mt-3">
        <summary class="cursor-pointer text-sm text-muted">Settings that differ from the usual</summary>
        <template v-for="(title, setting) in chosen?.settings" :key="setting">
          <label class="label" :for="`setting-${setting}`">{{ title }}</label>
          <input :id="`setting-${setting}`" v-model="settings[setting]" class="field font-mono" placeholder="as usual" />
        </template>
      </details>
      <AcceptKey :error="enrol.error.value" whose="The machine" @accept="accept" />
      <div class="mt-4 flex gap-3">
        <button class="button" :disabled="enrol.isPending.value || Boolean(found.enrolled_as)">Enrol it</button>
        <button type="button" class="cursor-pointer text-muted" @click="again">Look at another</button>
        <button type="button" class="cursor-pointer text-muted" @click="$emit('close')">Cancel</button>
      </div>
    </form>
  </AskDialog>
</template>

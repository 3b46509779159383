<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { computed, reactive, ref } from "vue";
import { client, get, type Schema } from "../api";
import { size } from "../format";
import { may } from "../session";
import AskDialog from "./AskDialog.vue";
import ProblemNote from "./ProblemNote.vue";

/** Where the receiving end listens, and by which keys systems know it. */
type Protocol = Schema["DropListening"]["protocol"];
const TITLES: [Protocol, string][] = [
  ["sftp", "SFTP"],
  ["ftps", "FTP with TLS"],
  ["ftp", "FTP in clear"],
];
const PORTS: Record<Protocol, number> = { sftp: 2022, ftps: 2121, ftp: 2120 };
const drop = useQuery({
  queryKey: ["drop"],
  queryFn: () => get(client.GET("/api/v1/drop")),
  refetchInterval: 3000,
});
const changing = ref(false);
const wanted = reactive({ sftp: "", ftps: "", ftp: "", public: "", passive: "", megabytes: 100 });
const rate = computed(() => {
  const told = drop.data.value?.rate ?? null;
  if (told === null) return "";
  return told ? `up to ${size(told)} a second of each system` : "as fast as systems can";
});
const problems = computed(() => new Map(drop.data.value?.listening.map((one) => [one.protocol, one.problem])));

function stateOf(protocol: Protocol, address: string): string {
  if (!address) return "off";
  const problem = problems.value.get(protocol);
  if (problem === undefined) return "beginning";
  return problem || "listens";
}
function begin(): void {
  const now = drop.data.value;
  if (now) {
    const { sftp, ftps, ftp, passive } = now;
    Object.assign(wanted, { sftp, ftps, ftp, public: now.public, passive, megabytes: (now.rate ?? 1e8) / 1e6 });
  }
  change.reset();
  changing.value = true;
}
const change = useMutation({
  mutationFn: () => {
    const { megabytes, ...body } = wanted;
    return get(client.PATCH("/api/v1/drop", { body: { ...body, rate: Math.round(megabytes * 1e6) } }));
  },
  onSuccess: async () => {
    changing.value = false;
    await drop.refetch();
  },
});
</script>

<template>
  <ProblemNote :error="drop.error.value" />
  <div v-if="drop.data.value" class="scroll mt-3" tabindex="0">
    <table>
      <thead>
        <tr>
          <th>Protocol</th>
          <th>Address</th>
          <th>State</th>
          <th>Known by</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="[protocol, title] in TITLES" :key="protocol">
          <td>{{ title }}</td>
          <td>
            <code v-if="drop.data.value[protocol]">{{ drop.data.value[protocol] }}</code>
            <template v-if="drop.data.value[protocol] && drop.data.value.public">
              <span class="text-muted">, entered as {{ drop.data.value.public }}</span>
            </template>
          </td>
          <td :class="{ 'font-semibold text-ember': problems.get(protocol) }">
            {{ stateOf(protocol, drop.data.value[protocol]) }}
          </td>
          <td class="break-all">
            <template v-if="drop.data.value[protocol]">
              <code v-if="protocol === 'sftp'">{{ drop.data.value.host_key }}</code>
              <code v-else-if="protocol === 'ftps'" class="text-sm">SHA-256 {{ drop.data.value.certificate }}</code>
              <span v-else class="font-semibold text-warn">nothing: everybody on the way reads along</span>
            </template>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-if="drop.data.value" class="mt-2 flex flex-wrap items-baseline gap-4">
    <span v-if="drop.data.value.free !== null" class="text-muted">{{ size(drop.data.value.free) }} free on its disk</span>
    <span class="text-muted">{{ rate }}</span>
    <button v-if="may('administrator')" type="button" class="button" @click="begin">Change …</button>
  </p>
  <AskDialog :open="changing" title="The receiving end" @close="changing = false">
    <p class="text-muted">
      Where it listens on this machine. An empty address switches a protocol off. Its keys are made the first time, and
      stay.
    </p>
    <form @submit.prevent="change.mutate()">
      <template v-for="[protocol, title] in TITLES" :key="protocol">
        <label class="label" :for="`drop-${protocol}`">{{ title }}</label>
        <input
          :id="`drop-${protocol}`"
          v-model="wanted[protocol]"
          class="field"
          :placeholder="`off; or 10.20.4.2:${PORTS[protocol]}`"
        />
        <p v-if="protocol === 'ftp' && wanted.ftp" class="text-sm font-semibold text-warn">
          Secrets and files can be read by everybody on the way.
        </p>
      </template>
      <label class="label" for="drop-public">The host to enter in systems</label>
      <input id="drop-public" v-model="wanted.public" class="field" placeholder="the address above" />
      <label class="label" for="drop-passive">Ports of FTP's data connections</label>
      <input id="drop-passive" v-model="wanted.passive" class="field" placeholder="any; or 40000-40099" />
      <label class="label" for="drop-rate">Megabytes a second of one system; 0: as fast as it can</label>
      <input id="drop-rate" v-model.number="wanted.megabytes" type="number" min="0" step="any" required class="field" />
      <ProblemNote :error="change.error.value" />
      <div class="mt-4 flex gap-3">
        <button class="button" :disabled="change.isPending.value">Change it</button>
        <button type="button" class="cursor-pointer text-muted" @click="changing = false">Cancel</button>
      </div>
    </form>
  </AskDialog>
</template>

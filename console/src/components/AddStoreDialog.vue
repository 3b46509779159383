<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { client, get, ProblemError } from "../api";
import { size } from "../format";
import { useLoginChoice } from "../logins";
import AcceptKey from "./AcceptKey.vue";
import AskDialog from "./AskDialog.vue";
import LoginSelect from "./LoginSelect.vue";
import NewLogin from "./NewLogin.vue";

const props = defineProps<{ open: boolean; first: boolean }>();
const emit = defineEmits<{ close: [] }>();
const router = useRouter();
const queries = useQueryClient();
const choice = useLoginChoice();
const name = ref("");
const address = ref("");
const site = ref("");
const passphrase = ref("");
const custody = ref<"kept" | "apart">("kept");
const hybrid = ref(false);
const accepted = ref<string | null>(null);
const beside = ref(false);
const full = computed(() => add.error.value instanceof ProblemError && add.error.value.problem.field === "beside");
const far = computed(() => address.value.includes("://") && !address.value.startsWith("file:"));
const plain = computed(() => /^(ftp|dav):/.test(address.value) || address.value.includes("endpoint=http:"));

async function usedLogin(): Promise<string | null> {
  return far.value ? choice.used() : null;
}
const look = useMutation({
  mutationFn: async () =>
    get(
      client.POST("/api/v1/stores/look", {
        body: { address: address.value, login: await usedLogin(), key: accepted.value },
      }),
    ),
});
const add = useMutation({
  mutationFn: async () =>
    get(
      client.POST("/api/v1/stores", {
        body: {
          name: name.value,
          address: address.value,
          login: await usedLogin(),
          key: accepted.value,
          site: site.value,
          passphrase: passphrase.value || null,
          custody: custody.value,
          suite: props.first && hybrid.value ? "mlkem768x25519-sha256-aes256gcm" : null,
          label: "first",
          key_set: "main",
          plain_names: true,
          beside: beside.value,
        },
      }),
    ),
  onSuccess: async (store) => {
    passphrase.value = "";
    choice.forget();
    await queries.invalidateQueries();
    emit("close");
    await router.push(`/stores/${store.name}?test=1`);
  },
});
function accept(fingerprint: string): void {
  accepted.value = fingerprint;
  if (add.error.value) add.mutate();
  else look.mutate();
}
function enter(folder: string): void {
  address.value = `${address.value.replace(/\/+$/, "")}/${folder}`;
  look.mutate();
}
</script>

<template>
  <AskDialog :open="open" title="Add a store" @close="$emit('close')">
    <form @submit.prevent="add.mutate()">
      <label class="label" for="store-name">Name</label>
      <input id="store-name" v-model="name" class="field" required placeholder="attic" />
      <label class="label" for="store-address">Empty folder of the workers' machine, or address of a far side</label>
      <input
        id="store-address"
        v-model="address"
        class="field font-mono"
        required
        placeholder="/srv/backups or sftp://depot.example/fennox"
        @input="
          accepted = null;
          beside = false;
        "
      />
      <p class="mt-1 text-sm text-muted">
        Also ftps://, ftp://, davs://, dav:// and s3://bucket/prefix?endpoint=https://…
      </p>
      <p v-if="plain" class="mt-1 text-sm font-semibold text-warn">
        This protocol is plain: anyone listening on the way reads the login. The backups stay sealed.
      </p>
      <template v-if="far">
        <LoginSelect :choice="choice" title="Login there" />
        <NewLogin :choice="choice" :by-key="address.startsWith('sftp:')" />
      </template>
      <label class="label" for="store-site">Site, to warn when every copy is in one place</label>
      <input id="store-site" v-model="site" class="field" placeholder="gannet-point" />
      <fieldset v-if="first" class="mt-3">
        <legend class="text-sm text-muted">Who can open the backups</legend>
        <label class="block"
          ><input v-model="custody" type="radio" value="kept" class="mr-1 accent-slate" />the service too: checks and
          comparisons need no person</label
        >
        <label class="block"
          ><input v-model="custody" type="radio" value="apart" class="mr-1 accent-slate" />only who knows the
          passphrase: every restore asks for it</label
        >
      </fieldset>
      <label v-if="first" class="mt-3 block"
        ><input v-model="hybrid" type="checkbox" class="mr-1 accent-slate" />must stay secret for decades: seal with
        ML-KEM-768 as well (to read it without Fennox then takes a newer library than Debian 12 has)</label
      >
      <label class="label" for="store-passphrase">{{
        first ? "Passphrase: five unrelated words or more" : "Passphrase of the key set (needed if it is kept apart)"
      }}</label>
      <input
        id="store-passphrase"
        v-model="passphrase"
        type="password"
        class="field"
        :required="first"
        autocomplete="off"
      />
      <p class="mt-1 text-sm text-muted">
        Keep it where it is found when this machine is gone. Nobody can open the backups without it.
      </p>
      <div v-if="look.data.value" class="mt-3 border border-line px-3 py-2 text-sm" aria-live="polite">
        <p>
          <code>{{ look.data.value.address }}</code
          >: {{ look.data.value.landed }}.
        </p>
        <p v-if="look.data.value.is_store" class="font-semibold text-warn">
          This is a store already. Adopt it with <code>fennox store adopt</code>.
        </p>
        <p v-if="!look.data.value.entries.length">The folder is empty, as it should be.</p>
        <ul class="max-h-40 overflow-y-auto">
          <li v-for="entry in look.data.value.entries" :key="entry.name" class="flex justify-between">
            <button
              v-if="entry.folder"
              type="button"
              class="cursor-pointer font-mono underline"
              @click="enter(entry.name)"
            >
              {{ entry.name }}/
            </button>
            <code v-else>{{ entry.name }}</code>
            <span class="text-muted">{{ entry.size === null ? "" : size(entry.size) }}</span>
          </li>
        </ul>
      </div>
      <label v-if="full || beside" class="mt-3 block"
        ><input v-model="beside" type="checkbox" class="mr-1 accent-slate" />The place is right: the store is to lie
        beside what is there</label
      >
      <AcceptKey :error="add.error.value ?? look.error.value" whose="The far side" @accept="accept" />
      <div class="mt-4 flex flex-wrap gap-3">
        <button class="button" :disabled="add.isPending.value">Add and prove it</button>
        <button
          type="button"
          class="button"
          :disabled="!address || look.isPending.value"
          @click="
            add.reset();
            look.mutate();
          "
        >
          Look into it first
        </button>
        <button type="button" class="cursor-pointer text-muted" @click="$emit('close')">Cancel</button>
      </div>
    </form>
  </AskDialog>
</template>

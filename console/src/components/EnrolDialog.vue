<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { client, get } from "../api";
import AcceptKey from "./AcceptKey.vue";
import AskDialog from "./AskDialog.vue";

defineProps<{ open: boolean }>();
const emit = defineEmits<{ close: [] }>();
const router = useRouter();
const queries = useQueryClient();
const kinds = useQuery({ queryKey: ["kinds"], queryFn: () => get(client.GET("/api/v1/kinds")) });
const logins = useQuery({ queryKey: ["logins"], queryFn: () => get(client.GET("/api/v1/logins")) });
const name = ref("");
const kind = ref("linux-server");
const address = ref("");
const login = ref("");
const site = ref("");
const newLogin = ref({ name: "", account: "", secret: "" });
const settings = ref<Record<string, string>>({});
const accepted = ref<string | null>(null);
const chosen = computed(() => kinds.data.value?.items.find((item) => item.name === kind.value));
const byKey = computed(() => chosen.value?.reach === "ssh");

const enrol = useMutation({
  mutationFn: async () => {
    let used = login.value;
    if (used === "") {
      const made = newLogin.value;
      const secret = byKey.value && made.secret.includes("PRIVATE KEY") ? "private_key" : "password";
      const known = logins.data.value?.items.some((item) => item.name === made.name);
      if (!known) {
        await get(
          client.POST("/api/v1/logins", {
            body: { name: made.name, account: made.account, [secret]: made.secret },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["logins"] });
      }
      used = login.value = made.name;
    }
    const given = Object.fromEntries(Object.entries(settings.value).filter(([, value]) => value !== ""));
    return get(
      client.POST("/api/v1/systems", {
        body: {
          name: name.value,
          kind: kind.value,
          address: address.value,
          login: used,
          key: accepted.value,
          settings: given,
          site: site.value,
          labels: [],
        },
      }),
    );
  },
  onSuccess: async (system) => {
    await queries.invalidateQueries();
    emit("close");
    await router.push(`/systems/${system.name}`);
  },
});
function accept(fingerprint: string): void {
  accepted.value = fingerprint;
  enrol.mutate();
}
</script>

<template>
  <AskDialog :open="open" title="Enrol a system" @close="$emit('close')">
    <form @submit.prevent="enrol.mutate()">
      <label class="label" for="enrol-kind">Kind</label>
      <select id="enrol-kind" v-model="kind" class="field">
        <option v-for="item in kinds.data.value?.items" :key="item.name" :value="item.name">{{ item.title }}</option>
      </select>
      <p v-if="chosen" class="mt-1 text-sm text-muted">{{ chosen.about }}</p>
      <div class="grid grid-cols-2 gap-x-4">
        <div>
          <label class="label" for="enrol-name">Name</label>
          <input id="enrol-name" v-model="name" class="field" required placeholder="web-9" />
        </div>
        <div>
          <label class="label" for="enrol-address">Address and port</label>
          <input
            id="enrol-address"
            v-model="address"
            class="field font-mono"
            required
            :placeholder="`10.1.2.3:${chosen?.port ?? 22}`"
            @input="accepted = null"
          />
        </div>
        <div>
          <label class="label" for="enrol-login">Login</label>
          <select id="enrol-login" v-model="login" class="field">
            <option value="">a new one</option>
            <option v-for="item in logins.data.value?.items" :key="item.id" :value="item.name">
              {{ item.name }} ({{ item.account }})
            </option>
          </select>
        </div>
        <div>
          <label class="label" for="enrol-site">Site</label>
          <input id="enrol-site" v-model="site" class="field" placeholder="saltmere-quay" />
        </div>
      </div>
      <fieldset v-if="login === ''" class="mt-3 border border-line p-3 pt-0">
        <legend class="px-1 text-sm text-muted">New login</legend>
        <div class="grid grid-cols-2 gap-x-4">
          <div>
            <label class="label" for="login-name">Its name</label>
            <input id="login-name" v-model="newLogin.name" class="field" required />
          </div>
          <div>
            <label class="label" for="login-account">Account</label>
            <input id="login-account" v-model="newLogin.account" class="field" required />
          </div>
        </div>
        <label class="label" for="login-secret">{{
          byKey ? "Password, or private key (OpenSSH)" : "Password"
        }}</label>
        <textarea
          v-if="byKey"
          id="login-secret"
          v-model="newLogin.secret"
          class="field font-mono text-xs"
          rows="3"
          autocomplete="off"
          required
        />
        <input v-else id="login-secret" v-model="newLogin.secret" type="password" class="field" required />
      </fieldset>
      <template v-for="(title, setting) in chosen?.settings" :key="setting">
        <label class="label" :for="`setting-${setting}`">{{ title }}</label>
        <input :id="`setting-${setting}`" v-model="settings[setting]" class="field font-mono" placeholder="as usual" />
      </template>
      <AcceptKey :error="enrol.error.value" whose="The machine" @accept="accept" />
      <div class="mt-4 flex gap-3">
        <button class="button" :disabled="enrol.isPending.value">Reach it and enrol</button>
        <button type="button" class="cursor-pointer text-muted" @click="$emit('close')">Cancel</button>
      </div>
    </form>
  </AskDialog>
</template>

<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { client, get } from "../api";
import { useLoginChoice } from "../logins";
import AcceptKey from "./AcceptKey.vue";
import AskDialog from "./AskDialog.vue";
import LoginSelect from "./LoginSelect.vue";
import NewLogin from "./NewLogin.vue";

defineProps<{ open: boolean }>();
const emit = defineEmits<{ close: [] }>();
const router = useRouter();
const queries = useQueryClient();
const kinds = useQuery({ queryKey: ["kinds"], queryFn: () => get(client.GET("/api/v1/kinds")) });
const choice = useLoginChoice();
const enrollable = computed(() => kinds.data.value?.items.filter((item) => item.reach !== "service") ?? []);
const name = ref("");
const kind = ref("linux-server");
const address = ref("");
const site = ref("");
const settings = ref<Record<string, string>>({});
const accepted = ref<string | null>(null);
const chosen = computed(() => kinds.data.value?.items.find((item) => item.name === kind.value));
const byKey = computed(() => chosen.value?.reach === "ssh");

const enrol = useMutation({
  mutationFn: async () => {
    const login = await choice.used();
    const given = Object.fromEntries(Object.entries(settings.value).filter(([, value]) => value !== ""));
    return get(
      client.POST("/api/v1/systems", {
        body: {
          name: name.value,
          kind: kind.value,
          address: address.value,
          login,
          key: accepted.value,
          settings: given,
          site: site.value,
          labels: [],
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
  enrol.mutate();
}
</script>

<template>
  <AskDialog :open="open" title="Enrol a system" @close="$emit('close')">
    <form @submit.prevent="enrol.mutate()">
      <label class="label" for="enrol-kind">Kind</label>
      <select id="enrol-kind" v-model="kind" class="field">
        <option v-for="item in enrollable" :key="item.name" :value="item.name">{{ item.title }}</option>
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
          <LoginSelect :choice="choice" title="Login" />
        </div>
        <div>
          <label class="label" for="enrol-site">Site</label>
          <input id="enrol-site" v-model="site" class="field" placeholder="saltmere-quay" />
        </div>
      </div>
      <NewLogin :choice="choice" :by-key="byKey" />
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

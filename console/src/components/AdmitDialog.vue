<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { ref, watch } from "vue";
import { client, get } from "../api";
import AcceptKey from "./AcceptKey.vue";
import AskDialog from "./AskDialog.vue";

/** Lets a login be used at a machine that is no system of its own: a restore's fresh one, a spare. */
const props = defineProps<{ login: string }>();
const emit = defineEmits<{ close: []; admitted: [] }>();
const sites = useQuery({ queryKey: ["sites"], queryFn: () => get(client.GET("/api/v1/sites")) });
const address = ref("");
const site = ref("");
const admit = useMutation({
  mutationFn: async (key: string | null) =>
    get(
      client.POST("/api/v1/logins/{name}/places", {
        params: { path: { name: props.login } },
        body: { address: address.value, site: site.value, key },
      }),
    ),
  onSuccess: () => emit("admitted"),
});
watch(
  () => props.login,
  () => {
    address.value = "";
    site.value = "";
    admit.reset();
  },
);
watch([address, site], () => admit.reset());
</script>

<template>
  <AskDialog :open="login !== ''" :title="`Admit ${login}`" @close="emit('close')">
    <p class="text-muted">
      Whoever may restore can then have Fennox sign in there with this login. The machine proves itself by the key that
      you accept now.
    </p>
    <form @submit.prevent="admit.mutate(null)">
      <label class="label" for="admit-address">Address, or address:port</label>
      <input id="admit-address" v-model="address" class="field" required placeholder="10.20.4.17" />
      <template v-if="sites.data.value?.items.length">
        <label class="label" for="admit-site">Reached from</label>
        <select id="admit-site" v-model="site" class="field">
          <option value="">here</option>
          <option v-for="one in sites.data.value.items" :key="one.name" :value="one.name">{{ one.name }}</option>
        </select>
      </template>
      <div class="mt-4 flex gap-3">
        <button class="button" :disabled="admit.isPending.value">Look at its key</button>
        <button type="button" class="cursor-pointer text-muted" @click="emit('close')">Cancel</button>
      </div>
      <AcceptKey :error="admit.error.value" :whose="address" @accept="(key) => admit.mutate(key)" />
    </form>
  </AskDialog>
</template>

<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { ref, watch } from "vue";
import { useRouter } from "vue-router";
import { client, get } from "../api";
import AskDialog from "./AskDialog.vue";
import ProblemNote from "./ProblemNote.vue";

const props = defineProps<{ open: boolean; system: string }>();
defineEmits<{ close: [] }>();
const router = useRouter();
const wanted = ref({ store: "", name: "", note: "", change: false });
const stores = useQuery({ queryKey: ["stores"], queryFn: () => get(client.GET("/api/v1/stores")) });
watch(
  stores.data,
  (found) => {
    wanted.value.store ||= found?.items[0]?.name ?? "";
  },
  { immediate: true },
);
const take = useMutation({
  mutationFn: () =>
    get(
      client.POST("/api/v1/backups", {
        body: {
          system: props.system,
          store: wanted.value.store,
          name: wanted.value.name,
          note: wanted.value.note,
          hold: wanted.value.change ? wanted.value.note || "before a change" : "",
          wait: true,
        },
      }),
    ),
  onSuccess: (run) => router.push(`/runs/${run.id}`),
});
</script>

<template>
  <AskDialog :open="open" title="Take a backup" @close="$emit('close')">
    <form @submit.prevent="take.mutate()">
      <label class="label" for="take-store">Store</label>
      <select id="take-store" v-model="wanted.store" class="field">
        <option v-for="store in stores.data.value?.items" :key="store.id" :value="store.name">{{ store.name }}</option>
      </select>
      <label class="label" for="take-name">Name, if you want to find it again</label>
      <input id="take-name" v-model="wanted.name" class="field" placeholder="before-upgrade" />
      <label class="label" for="take-note">Why</label>
      <input id="take-note" v-model="wanted.note" class="field" />
      <label class="mt-3 block"
        ><input v-model="wanted.change" type="checkbox" class="mr-1 accent-slate" />before a change: no ladder removes it
        until somebody releases it</label
      >
      <div class="mt-4 flex gap-3">
        <button class="button" :disabled="take.isPending.value || !stores.data.value?.items.length">Take it now</button>
        <button type="button" class="cursor-pointer text-muted" @click="$emit('close')">Cancel</button>
      </div>
      <p v-if="stores.data.value && !stores.data.value.items.length" class="mt-2">
        There is no store yet: <RouterLink to="/stores?add=1">add one</RouterLink>.
      </p>
      <ProblemNote :error="take.error.value" />
    </form>
  </AskDialog>
</template>

<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { ref } from "vue";
import { client, get } from "../api";
import AskDialog from "./AskDialog.vue";
import ProblemNote from "./ProblemNote.vue";

/** Asks why a system is no more, and whether its backups may go. */
const props = defineProps<{ name: string; open: boolean }>();
const emit = defineEmits<{ close: []; retired: [] }>();
const wanted = ref({ because: "", let_go: false });
const retire = useMutation({
  mutationFn: () =>
    get(client.POST("/api/v1/systems/{name}/retire", { params: { path: { name: props.name } }, body: wanted.value })),
  onSuccess: () => emit("retired"),
});
</script>

<template>
  <AskDialog :open="open" :title="`Retire ${name}`" @close="emit('close')">
    <form @submit.prevent="retire.mutate()">
      <p>No routine takes it any more, and nothing of it is late. It can be brought back.</p>
      <label class="label" for="retire-because">Why</label>
      <input id="retire-because" v-model="wanted.because" class="field" required placeholder="replaced by quay-web-2" />
      <label class="mt-3 block"
        ><input v-model="wanted.let_go" type="checkbox" class="mr-1 accent-slate" />its successor is accepted: its backups
        may go by their ladders</label
      >
      <div class="mt-4 flex gap-3">
        <button class="button button-ember" :disabled="retire.isPending.value">Retire it</button>
        <button type="button" class="cursor-pointer text-muted" @click="emit('close')">Cancel</button>
      </div>
      <ProblemNote :error="retire.error.value" />
    </form>
  </AskDialog>
</template>

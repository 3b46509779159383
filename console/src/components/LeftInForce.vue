<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { ref } from "vue";
import { client, get, type Schema } from "../api";
import AskDialog from "./AskDialog.vue";
import ProblemNote from "./ProblemNote.vue";

/** What steps left on the target until another step, or a person, ends it. */
const props = defineProps<{ sheet: string; system: string; steps: Schema["SheetStep"][]; releasable: boolean }>();
const emit = defineEmits<{ released: [] }>();
const words = { mode: "In a special state", hold: "Must not start", access: "Open for the restore" };
const asked = ref<Schema["SheetStep"] | null>(null);
const typed = ref("");
const release = useMutation({
  mutationFn: (step: number) =>
    get(client.POST("/api/v1/restores/{sheet}/release", { params: { path: { sheet: props.sheet } }, body: { step } })),
  onSuccess: () => {
    asked.value = null;
    emit("released");
  },
});
</script>

<template>
  <ul v-if="steps.length" class="mt-3 border-l-4 border-ember bg-ember-soft px-4 py-2">
    <li v-for="step in steps" :key="step.number">
      <template v-if="step.meanwhile">
        <b class="text-ember">{{ words[step.meanwhile.state] }}</b
        >: {{ step.meanwhile.says }}
        <span class="text-sm text-muted">
          Begun by step {{ step.number }}, {{ step.title }}<template v-if="step.state !== 'done'">
            – or not: that step is {{ step.state }}</template
          >.
        </span>
        <button v-if="releasable" type="button" class="button ml-2" @click="asked = step">It is over …</button>
      </template>
    </li>
  </ul>
  <AskDialog :open="asked !== null" title="Release the target" @close="asked = null">
    <template v-if="asked?.meanwhile">
      <p>{{ asked.meanwhile.says }}</p>
      <p class="mt-2">
        Say that this is over only if you ended it yourself. Nothing is done on the target; to continue, the restore has to be
        drafted anew.
      </p>
      <form @submit.prevent="release.mutate(asked.number)">
        <label class="label" for="release-name">Type the system's name, {{ system }}, to release it</label>
        <input id="release-name" v-model="typed" class="field" autocomplete="off" />
        <div class="mt-4 flex gap-3">
          <button class="button button-ember" :disabled="typed !== system || release.isPending.value">It is over</button>
          <button type="button" class="cursor-pointer text-muted" @click="asked = null">Cancel</button>
        </div>
      </form>
      <ProblemNote :error="release.error.value" />
    </template>
  </AskDialog>
</template>

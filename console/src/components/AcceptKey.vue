<script setup lang="ts">
import { computed } from "vue";
import { ProblemError } from "../api";
import ProblemNote from "./ProblemNote.vue";

/** Shows what went wrong; an unknown fingerprint is shown to be compared and accepted. */
const props = defineProps<{ error: unknown; whose: string }>();
const emit = defineEmits<{ accept: [fingerprint: string] }>();
const offered = computed(() =>
  props.error instanceof ProblemError && props.error.slug === "key-unknown"
    ? (props.error.problem.fingerprint ?? null)
    : null,
);
</script>

<template>
  <div v-if="offered" class="mt-4 border-l-4 border-ember bg-ember-soft px-3 py-2">
    <p>{{ whose }} shows this fingerprint. Compare it with its own before you accept it.</p>
    <p class="my-1 break-all"><code>{{ offered }}</code></p>
    <button type="button" class="button button-ember" @click="emit('accept', offered)">
      It is the right one: accept
    </button>
  </div>
  <ProblemNote v-else :error="error" />
</template>

<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { ref, watch } from "vue";
import { useRouter } from "vue-router";
import { client, get } from "../api";
import { useFollowed } from "../follow";
import ProblemNote from "./ProblemNote.vue";
import RunProgress from "./RunProgress.vue";

/** Drafts the run sheet that puts a restore's safety copy back, and goes there. */
const props = defineProps<{ sheet: string; safety: string | null }>();
const router = useRouter();
const runId = ref<string | null>(null);
const { run, now } = useFollowed(runId);
const draft = useMutation({
  mutationFn: () => get(client.POST("/api/v1/restores/{sheet}/return", { params: { path: { sheet: props.sheet } } })),
  onSuccess: (started) => {
    runId.value = started.id;
  },
});
watch(run, async (seen) => {
  if (seen?.result?.kind === "draft") await router.push(`/restores/${seen.result.sheet}`);
});
</script>

<template>
  <div class="mt-3">
    <p>
      <button type="button" class="button" :disabled="draft.isPending.value || run !== null" @click="draft.mutate()">
        Draft the way back
      </button>
      <span class="ml-3 text-sm text-muted">
        Changes nothing yet. The sheet it makes puts back what the target held before<template v-if="safety">
          (safety copy <code>{{ safety.slice(0, 12) }}</code>)</template
        >.
      </span>
    </p>
    <ProblemNote :error="draft.error.value" />
    <RunProgress v-if="run" class="mt-2" :run="run" :now="now" />
  </div>
</template>

<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { ref } from "vue";
import { client, get } from "../api";
import type { Schema } from "../api";
import { when } from "../format";
import { may } from "../session";
import ProblemNote from "./ProblemNote.vue";

/** `before`: the id of the backup taken before this one. */
const props = defineProps<{ backup: Schema["BackupShown"]; before: string | undefined }>();
const emit = defineEmits<{ cleared: [] }>();
const found = ref("");
const clear = useMutation({
  mutationFn: (good: boolean) =>
    get(
      client.POST("/api/v1/backups/{backup}/clear", {
        params: { path: { backup: props.backup.id } },
        body: { good, reason: found.value },
      }),
    ),
  onSuccess: () => emit("cleared"),
});
</script>

<template>
  <div class="mt-3 border-l-4 border-ember bg-ember-soft px-3 py-2">
    <p>
      The backup of {{ when(backup.time) }} is doubtful: {{ backup.doubtful_because || "somebody doubts it" }}. It pushes no good
      one out until somebody has looked.
      <RouterLink v-if="before" :to="`/compare?system=${backup.system}&before=${before}&after=${backup.id}`"
        >What changed</RouterLink
      >
    </p>
    <form v-if="may('operator')" class="mt-2 flex flex-wrap items-end gap-3" @submit.prevent>
      <label class="grow text-sm text-muted"
        >What you have found <input v-model="found" class="field" required maxlength="500"
      /></label>
      <button type="button" class="button" :disabled="!found" @click="clear.mutate(true)">
        It is as it should be
      </button>
      <button
        type="button"
        class="button button-ember"
        :disabled="!found"
        @click="clear.mutate(false)"
      >
        The doubt is right: it may go
      </button>
    </form>
    <ProblemNote :error="clear.error.value" />
  </div>
</template>

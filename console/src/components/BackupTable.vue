<script setup lang="ts">
import { computed, ref } from "vue";
import type { Schema } from "../api";
import { size, when } from "../format";
import { may } from "../session";

type Backup = Schema["BackupShown"];

/** `before`: of each backup, the one taken before it, by id. */
const props = defineProps<{ system: string; backups: Backup[]; before: Record<string, string> }>();
const changedOnly = ref(false);
const rows = computed(() => props.backups.filter((b) => !changedOnly.value || !b.unchanged));
</script>

<template>
  <label class="mt-2 block text-sm text-muted"
    ><input v-model="changedOnly" type="checkbox" class="mr-1 accent-slate" /> only those that changed something</label
  >
  <div class="scroll max-h-[28rem] overflow-y-auto" tabindex="0" role="region" aria-label="Backups">
    <table>
      <thead>
        <tr>
          <th>Taken</th>
          <th>Name</th>
          <th>By</th>
          <th>Documents</th>
          <th>New in store</th>
          <th>Held in</th>
          <th>Kept by</th>
          <th>Id</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="backup in rows" :key="backup.id" :class="backup.expired ? 'text-muted' : ''">
          <td class="whitespace-nowrap">
            {{ when(backup.time) }}
            <span v-if="backup.future || backup.misdated" class="block text-sm text-warn">{{
              backup.future ? "in the future" : "a wrong date"
            }}</span>
          </td>
          <td>
            {{ backup.name || "–" }}
            <span v-if="backup.note" class="block text-sm text-muted">{{ backup.note }}</span>
          </td>
          <td>{{ backup.routine ?? (backup.purpose === "safety" ? "a restore" : "hand") }}</td>
          <td>{{ backup.documents }}, {{ size(backup.bytes) }}</td>
          <td>
            {{ backup.unchanged ? "unchanged" : size(backup.new_bytes) }}
            <RouterLink
              v-if="before[backup.id] && !backup.unchanged && may('operator')"
              :to="`/compare?system=${system}&before=${before[backup.id]}&after=${backup.id}`"
              class="block text-sm"
              >what changed</RouterLink
            >
          </td>
          <td>{{ backup.stores.join(", ") }}</td>
          <td class="text-sm">{{ backup.expired ? "marked to go" : backup.kept_by.join(", ") || "nothing: it goes" }}</td>
          <td>
            <RouterLink v-if="may('operator')" :to="`/restores?backup=${backup.id}`"
              ><code>{{ backup.id.slice(0, 12) }}</code></RouterLink
            ><code v-else>{{ backup.id.slice(0, 12) }}</code>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script setup lang="ts">
import type { Schema } from "../api";
import { some, when } from "../format";

defineProps<{ sheet: Schema["Sheet"] }>();
const counted = (count: number) => `${count} ${count === 1 ? "document" : "documents"}`;
</script>

<template>
  <table>
    <tbody>
      <tr>
        <td class="text-muted">Now</td>
        <td>
          <code>{{ sheet.target.address }}</code> as {{ sheet.target.account }},
          {{ sheet.target_product }} {{ sheet.target_version }}
        </td>
      </tr>
      <tr v-if="sheet.entrance">
        <td class="text-muted">Acting at</td>
        <td>
          <code>{{ sheet.entrance.address }}</code> as {{ sheet.entrance.account }}
        </td>
      </tr>
      <tr v-for="(login, secret) in sheet.seen_secrets" :key="secret">
        <td class="text-muted">Secret</td>
        <td>
          {{ secret }}: <template v-if="login">of the login {{ login }}</template
          ><template v-else>the system has none</template>
        </td>
      </tr>
      <tr>
        <td class="text-muted">Machine</td>
        <td>
          <code class="break-all">{{ sheet.target_machine }}</code>
        </td>
      </tr>
      <tr>
        <td class="text-muted">Backup</td>
        <td>
          <template v-if="sheet.backup_taken">{{ when(sheet.backup_taken) }}, </template
          ><code>{{ sheet.backup.slice(0, 12) }}</code
          >: {{ sheet.parts.join(", ") }}
        </td>
      </tr>
      <tr>
        <td class="text-muted">Overwritten</td>
        <td>
          {{ counted(sheet.overwrites.changed_count)
          }}<template v-if="sheet.overwrites.changed.length"
            >: <span class="text-sm">{{ some(sheet.overwrites.changed, 5) }}</span></template
          >; {{ sheet.overwrites.added_count }} added
        </td>
      </tr>
    </tbody>
  </table>
</template>

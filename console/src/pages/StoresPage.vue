<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute } from "vue-router";
import { client, get } from "../api";
import AddStoreDialog from "../components/AddStoreDialog.vue";
import OwnState from "../components/OwnState.vue";
import ProblemNote from "../components/ProblemNote.vue";
import { size, when } from "../format";
import { may } from "../session";

const adding = ref(useRoute().query.add === "1");
const stores = useQuery({ queryKey: ["stores"], queryFn: () => get(client.GET("/api/v1/stores")) });
const first = computed(() => !stores.data.value?.items.length);
</script>

<template>
  <div class="flex items-baseline justify-between">
    <h1>Stores</h1>
    <button v-if="may('administrator')" type="button" class="button" @click="adding = true">Add a store</button>
  </div>
  <ProblemNote :error="stores.error.value" />
  <p v-if="stores.data.value && first" class="mt-3">
    There are no stores yet. A store is an empty folder or a place on a far side, best away from what it protects.
  </p>
  <div v-if="!first" class="mt-4 overflow-x-auto">
    <table>
      <thead>
        <tr>
          <th>Store</th>
          <th>Backups</th>
          <th>Newest</th>
          <th>Room</th>
          <th>Last scrub</th>
          <th>Opened by</th>
          <th>Look at</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="store in stores.data.value?.items" :key="store.id">
          <td>
            <RouterLink :to="`/stores/${store.name}`" class="font-semibold">{{ store.name }}</RouterLink>
            <div class="break-all text-sm text-muted md:whitespace-nowrap">
              <code>{{ store.address }}</code
              ><span v-if="store.plain" class="ml-2 font-semibold text-warn">plain</span>
            </div>
          </td>
          <td>{{ store.backups }}</td>
          <td>{{ when(store.newest) }}</td>
          <td>
            <template v-if="store.free !== null">{{ size(store.free) }} free</template><template v-else>unknown</template>
          </td>
          <td>{{ store.scrubbed ? when(store.scrubbed) : "never" }}</td>
          <td>{{ store.custody === "kept" ? "service and passphrase" : "passphrase alone" }}</td>
          <td>
            <span v-if="store.stopped_because" class="font-semibold text-ember">{{ store.stopped_because }}</span>
            <span v-else-if="store.warnings.length">{{ store.warnings[0] }}<template v-if="store.warnings.length > 1"> (and {{ store.warnings.length - 1 }} more)</template></span>
            <span v-else class="text-muted">nothing</span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <OwnState v-if="stores.data.value && !first" :stores="stores.data.value.items.map((store) => store.name)" />
  <AddStoreDialog :open="adding" :first="first" @close="adding = false" />
</template>

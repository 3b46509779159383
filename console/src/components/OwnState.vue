<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { client, get } from "../api";
import { when } from "../format";
import { may } from "../session";
import ProblemNote from "./ProblemNote.vue";

/** Whether Fennox itself would survive the loss of its machine, and the one step that sees to it. */
const props = defineProps<{ stores: string[] }>();
const queries = useQueryClient();
const own = useQuery({
  queryKey: ["own-state"],
  queryFn: () => get(client.GET("/api/v1/own-state")),
  refetchInterval: 10_000,
});
const chosen = ref<string[]>([]);
const onThisMachine = ref(false);
const changing = ref(false);
const picked = computed(() => props.stores.filter((name) => chosen.value.includes(name)));
const keep = useMutation({
  mutationFn: () =>
    get(
      client.PUT("/api/v1/own-state", {
        body: { store: picked.value[0] ?? "", copy_to: picked.value.slice(1), on_this_machine: onThisMachine.value },
      }),
    ),
  onSuccess: async () => {
    changing.value = false;
    await queries.invalidateQueries();
  },
});
function change(): void {
  chosen.value = own.data.value?.stores ?? [];
  changing.value = true;
}
</script>

<template>
  <section v-if="own.data.value" aria-labelledby="own-state">
    <h2 id="own-state">Fennox itself</h2>
    <p v-if="own.data.value.kept">
      Its systems, routines, users and logins are taken {{ own.data.value.when }} into
      {{ own.data.value.stores.join(" and ") }}.
      <template v-if="own.data.value.newest">
        The newest backup is of {{ when(own.data.value.newest) }}: what was changed since would be lost.
      </template>
      <template v-else>The first backup is on its way.</template>
    </p>
    <p v-for="text in own.data.value.warnings" :key="text" class="mt-2 border-l-2 border-warn py-1 pl-3">{{ text }}</p>
    <p v-if="own.data.value.rebuild.length" class="mt-2 text-sm text-muted">
      On an empty machine it comes back with
      <template v-for="(command, index) in own.data.value.rebuild" :key="command"
        ><template v-if="index"> or </template><code class="break-all">{{ command }}</code></template
      >
    </p>
    <template v-if="may('administrator')">
      <button v-if="own.data.value.kept && !changing" type="button" class="button mt-3" @click="change">
        Keep it elsewhere …
      </button>
      <form v-else class="mt-3" @submit.prevent="keep.mutate()">
        <fieldset>
          <legend class="text-sm text-muted">Take it twice a day into</legend>
          <label v-for="store in stores" :key="store" class="mr-5 inline-block"
            ><input v-model="chosen" type="checkbox" :value="store" class="mr-1 accent-slate" />{{ store }}</label
          >
        </fieldset>
        <label v-if="keep.error.value" class="mt-2 block"
          ><input v-model="onThisMachine" type="checkbox" class="mr-1 accent-slate" />It may be lost together with this
          machine: I carry a copy away by hand</label
        >
        <ProblemNote :error="keep.error.value" />
        <div class="mt-3 flex gap-3">
          <button class="button" :disabled="!picked.length || keep.isPending.value">Keep Fennox itself</button>
          <button v-if="changing" type="button" class="cursor-pointer text-muted" @click="changing = false">
            Cancel
          </button>
        </div>
      </form>
    </template>
  </section>
</template>

<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, reactive } from "vue";
import { client, get, type Schema } from "../api";
import AskDialog from "./AskDialog.vue";
import ProblemNote from "./ProblemNote.vue";

type Channel = Schema["NewAlertRoute"]["channel"];
defineProps<{ open: boolean }>();
const emit = defineEmits<{ close: []; added: [name: string] }>();
const queries = useQueryClient();
const CHANNELS: Record<Channel, { title: string; address: string; example: string; secret: string }> = {
  email: {
    title: "E-mail",
    address: "Mail server",
    example: "smtp+starttls://mail.saltmere.example:587",
    secret: "Password there, if it wants one",
  },
  webhook: {
    title: "Webhook",
    address: "Where it is posted to",
    example: "https://desk.saltmere.example/fennox",
    secret: "Secret that signs each message",
  },
  syslog: {
    title: "Syslog",
    address: "Log server",
    example: "syslog+tls://logs.saltmere.example",
    secret: "",
  },
  file: { title: "File", address: "Path on the service's machine", example: "/var/log/fennox.jsonl", secret: "" },
};
const wanted = reactive({
  name: "",
  channel: "email" as Channel,
  address: "",
  to: "",
  sender: "",
  account: "",
  secret: "",
  audit: false,
  severity: "high" as "high" | "low",
  systems: "all",
  digest: "",
});
const form = computed(() => CHANNELS[wanted.channel]);
const plain = computed(() => /^(smtp|http|syslog\+udp|syslog\+tcp):/.test(wanted.address));
const add = useMutation({
  mutationFn: () =>
    get(
      client.POST("/api/v1/alerts", {
        body: {
          ...wanted,
          to: wanted.channel === "email" ? wanted.to.split(/[\s,;]+/).filter(Boolean) : [],
          secret: wanted.secret || null,
        },
      }),
    ),
  onSuccess: async (made) => {
    Object.assign(wanted, { name: "", address: "", secret: "" });
    await queries.invalidateQueries({ queryKey: ["alerts"] });
    emit("added", made.name);
  },
});
</script>

<template>
  <AskDialog :open="open" title="Tell somebody" @close="$emit('close')">
    <form @submit.prevent="add.mutate()">
      <div class="grid gap-x-4 sm:grid-cols-2">
        <div>
          <label class="label" for="alert-name">Name</label>
          <input id="alert-name" v-model="wanted.name" class="field" required placeholder="on-call" />
        </div>
        <div>
          <label class="label" for="alert-channel">By</label>
          <select id="alert-channel" v-model="wanted.channel" class="field">
            <option v-for="(channel, name) in CHANNELS" :key="name" :value="name">{{ channel.title }}</option>
          </select>
        </div>
      </div>
      <label class="label" for="alert-address">{{ form.address }}</label>
      <input
        id="alert-address"
        v-model="wanted.address"
        class="field font-mono"
        required
        :placeholder="form.example"
      />
      <p v-if="plain" class="mt-1 text-sm font-semibold text-warn">
        This protocol is plain: anyone listening on the way reads what is wrong here.
      </p>
      <div class="grid gap-x-4 sm:grid-cols-2">
        <template v-if="wanted.channel === 'email'">
          <div>
            <label class="label" for="alert-to">To, with spaces between</label>
            <input id="alert-to" v-model="wanted.to" class="field" required placeholder="on-call@saltmere.example" />
          </div>
          <div>
            <label class="label" for="alert-sender">From</label>
            <input
              id="alert-sender"
              v-model="wanted.sender"
              class="field"
              required
              placeholder="fennox@saltmere.example"
            />
          </div>
          <div>
            <label class="label" for="alert-account">Account there, if it wants one</label>
            <input id="alert-account" v-model="wanted.account" class="field" autocomplete="off" />
          </div>
        </template>
        <div v-if="form.secret">
          <label class="label" for="alert-secret">{{ form.secret }}</label>
          <input id="alert-secret" v-model="wanted.secret" type="password" class="field" autocomplete="off" />
        </div>
      </div>
      <fieldset class="mt-3">
        <legend class="text-sm text-muted">Of what</legend>
        <label class="block"
          ><input v-model="wanted.severity" type="radio" value="high" class="mr-1 accent-slate" />what puts backups or
          restores at risk</label
        >
        <label class="block"
          ><input v-model="wanted.severity" type="radio" value="low" class="mr-1 accent-slate" />everything</label
        >
        <label class="block"
          ><input v-model="wanted.audit" type="checkbox" class="mr-1 accent-slate" />and each entry of the audit, as it
          happens</label
        >
      </fieldset>
      <label class="label" for="alert-systems">Systems: all, or terms like site=holm label=web</label>
      <input id="alert-systems" v-model="wanted.systems" class="field font-mono" required />
      <label class="label" for="alert-digest">Together at a time, like every day at 07:00 (empty: each at once)</label>
      <input id="alert-digest" v-model="wanted.digest" class="field" />
      <ProblemNote :error="add.error.value" />
      <div class="mt-4 flex gap-3">
        <button class="button" :disabled="add.isPending.value">Add and send a test</button>
        <button type="button" class="cursor-pointer text-muted" @click="$emit('close')">Cancel</button>
      </div>
    </form>
  </AskDialog>
</template>

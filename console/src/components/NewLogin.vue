<script setup lang="ts">
import type { LoginChoice } from "../logins";

/**
 * The fields of a login that is made on the way. `byKey`: a private key may be given too; `becomes`: an account for sudo;
 * `here`: there is nothing to prove.
 */
defineProps<{ choice: LoginChoice; byKey: boolean; becomes?: boolean; here?: boolean }>();
</script>

<template>
  <fieldset v-if="choice.chosen.value === ''" class="mt-3 border border-line p-3 pt-0">
    <legend class="px-1 text-sm text-muted">New login</legend>
    <div class="grid grid-cols-2 gap-x-4">
      <div>
        <label class="label" for="login-name">Its name</label>
        <input id="login-name" v-model="choice.made.value.name" class="field" required />
      </div>
      <div>
        <label class="label" for="login-account">Account</label>
        <input id="login-account" v-model="choice.made.value.account" class="field" required />
      </div>
    </div>
    <p v-if="here" class="mt-2 text-sm text-muted">The site's worker reads its own machine: no password is needed.</p>
    <label v-else class="label" for="login-secret">{{ byKey ? "Password, or private key (OpenSSH)" : "Password" }}</label>
    <textarea
      v-if="byKey && !here"
      id="login-secret"
      v-model="choice.made.value.secret"
      class="field font-mono text-xs"
      rows="3"
      autocomplete="off"
      required
    />
    <input v-else-if="!here" id="login-secret" v-model="choice.made.value.secret" type="password" class="field" required />
    <template v-if="becomes">
      <label class="label" for="login-become">Runs commands by sudo as</label>
      <input id="login-become" v-model="choice.made.value.become" class="field" placeholder="nobody else: the account may read everything" />
    </template>
  </fieldset>
</template>

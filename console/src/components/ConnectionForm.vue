<script setup lang="ts">
/** A form for a new connection, or for changing one, made from the kind's own description of its settings. */
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import Password from 'primevue/password'
import Select from 'primevue/select'
import { computed, onMounted, ref, watch } from 'vue'

import { errorBody, get, part, post, put, type ConnectionBody, type ErrorBody, type KindBody } from '../api/client'
import ErrorNote from './ErrorNote.vue'

const props = defineProps<{ changing?: ConnectionBody | null }>()
const visible = defineModel<boolean>('visible', { required: true })
const emit = defineEmits<{ added: [name: string]; changed: [connection: ConnectionBody] }>()
const kinds = ref<KindBody[]>([])
const kind = ref('files')
const name = ref('')
const catalog = ref('')
const values = ref<Record<string, string>>({})
const error = ref<ErrorBody | null>(null)
const busy = ref(false)
const settings = computed(() => kinds.value.find((k) => k.kind === kind.value)?.settings ?? [])
/** Settings that are true or false. */
const isFlag = (s: { default?: string | null }) => s.default === 'true' || s.default === 'false'
const plain = ['address', 'database', 'user', 'region']

/** The form shows what the connection has; of its secret only that it is there. */
watch(visible, (shown) => {
  if (!shown) return
  error.value = null
  const c = props.changing
  if (!c) return void (values.value = {})
  kind.value = c.kind
  name.value = c.name
  const own = { address: c.address, database: c.database, user: c.user, region: c.region, ...c.options }
  values.value = Object.fromEntries(Object.entries(own).filter((pair): pair is [string, string] => !!pair[1]))
})

async function add() {
  busy.value = true
  error.value = null
  try {
    const given = Object.fromEntries(settings.value.map((s) => [s.name, values.value[s.name]?.trim() ?? '']).filter(([, v]) => v))
    const options = Object.fromEntries(Object.entries(given).filter(([k]) => !plain.includes(k) && k !== 'secret'))
    const body = { name: name.value.trim(), kind: kind.value, address: given.address ?? '', database: given.database, user: given.user, region: given.region, secret: given.secret, options }
    if (props.changing) emit('changed', await put<ConnectionBody>(`/connections/${part(body.name)}`, body))
    else await post('/connections', body)
    if (!props.changing && catalog.value.trim()) await post('/catalogs', { name: catalog.value.trim(), connection: name.value.trim() })
    if (!props.changing) emit('added', body.name)
    visible.value = false
    values.value = {}
    name.value = catalog.value = ''
  } catch (thrown) {
    error.value = errorBody(thrown)
  } finally {
    busy.value = false
  }
}
onMounted(async () => { try { kinds.value = await get<KindBody[]>('/kinds') } catch (thrown) { error.value = errorBody(thrown) } })
</script>

<template>
  <Dialog v-model:visible="visible" modal :header="changing ? `Change connection ${changing.name}` : 'Add a connection'" :style="{ width: '34rem' }">
    <form class="form" @submit.prevent="add">
      <label for="kind">Kind</label><Select id="kind" v-model="kind" :options="kinds" option-label="kind" option-value="kind" :disabled="!!changing" />
      <label for="name">Name</label><InputText id="name" v-model="name" placeholder="such as fleet_two" required :disabled="!!changing" />
      <template v-for="s in settings" :key="s.name">
        <label :for="s.name">{{ s.label }}<span v-if="s.required" aria-label="required"> *</span></label>
        <div><Password v-if="s.secret" v-model="values[s.name]" :input-id="s.name" :feedback="false" :placeholder="changing?.has_secret ? 'the one that is stored' : ''" fluid /><Checkbox v-else-if="isFlag(s)" :input-id="s.name" binary class="flag" :model-value="(values[s.name] ?? s.default) === 'true'" @update:model-value="values[s.name] = String($event)" /><InputText v-else :id="s.name" v-model="values[s.name]" :placeholder="s.default ?? ''" fluid /><small class="faint">{{ s.help }}</small></div>
      </template>
      <template v-if="!changing"><label for="catalog">Catalog</label><div><InputText id="catalog" v-model="catalog" fluid /><small class="faint">the name of its tables in SQL; leave empty to add one later</small></div></template>
      <ErrorNote v-if="error" :error="error" class="wide" />
      <div class="wide buttons"><Button label="Cancel" text severity="secondary" @click="visible = false" /><Button type="submit" :label="changing ? 'Change and test' : 'Add and test'" :loading="busy" :disabled="!name.trim()" /></div>
    </form>
  </Dialog>
</template>

<style scoped>
.form { display: grid; grid-template-columns: 9rem 1fr; gap: 0.6rem 0.8rem; align-items: start; }
label { padding-top: 0.45rem; }
.flag { margin: 0.45rem 0.5rem 0 0; vertical-align: middle; }
.wide { grid-column: 1 / -1; }
.buttons { display: flex; justify-content: flex-end; gap: 0.6rem; }
</style>

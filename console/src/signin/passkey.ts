import { api, data } from '../api/client'

/** What a browser sends of a passkey, as JSON. */
type Answer = { toJSON: () => unknown }

type Creating = { publicKey: PublicKeyCredentialCreationOptionsJSON }
type Requesting = { publicKey: PublicKeyCredentialRequestOptionsJSON }

/** Signs in with a passkey of this device; again is for a session that goes on. */
export async function signInWithPasskey(again: boolean) {
  const begun = await data(again ? api.POST('/api/v1/session/confirmation/passkey/challenge') : api.POST('/api/v1/session/passkey/challenge'))
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON((begun.options as Requesting).publicKey)
  const key = (await navigator.credentials.get({ publicKey })) as unknown as Answer
  const body = { id: begun.id, answer: key.toJSON() }
  await (again ? api.POST('/api/v1/session/confirmation/passkey', { body }) : api.POST('/api/v1/session/passkey', { body }))
}

/** Makes a passkey in this device. */
export async function addPasskey(name: string) {
  const begun = await data(api.POST('/api/v1/me/passkeys/challenge'))
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON((begun.options as Creating).publicKey)
  const key = (await navigator.credentials.create({ publicKey })) as unknown as Answer
  await api.POST('/api/v1/me/passkeys', { body: { id: begun.id, name, answer: key.toJSON() } })
}

import type { components } from '../api/schema'

export type Limits = components['schemas']['Bandwidth']

import { RadioGroup } from 'radix-ui'
import type { ReactNode } from 'react'

type Props = { value: string; onChange: (type: string) => void }

/** A file of a drawing: at the source or the target, one that stays, comes, changes or goes. */
function File({ x, y, look }: { x: number; y: number; look: 'there' | 'new' | 'gone' }) {
  const looks = {
    there: 'fill-line stroke-soft',
    new: 'fill-plumage stroke-plumage',
    gone: 'fill-none stroke-brick',
  }
  return (
    <>
      <rect x={x} y={y} width="14" height="6" rx="1.5" className={looks[look]} strokeDasharray={look === 'gone' ? '2 2' : undefined} />
      {look === 'gone' && <path d={`M${x - 1} ${y + 3}h16`} className="stroke-brick" />}
    </>
  )
}

const Side = ({ x }: { x: number }) => <rect x={x} y="3" width="26" height="42" rx="3" className="fill-none stroke-soft" />

function Arrow({ from, to, y }: { from: number; to: number; y: number }) {
  const head = to > from ? -3.5 : 3.5
  return <path d={`M${from} ${y}H${to}M${to + head} ${y - 3}L${to} ${y}L${to + head} ${y + 3}`} className="fill-none stroke-plumage" strokeWidth="1.5" />
}

/** What happens to both sides: blue comes, struck out goes, grey stays. */
const drawings: Record<string, ReactNode> = {
  copy: (
    <>
      <Side x={3} />
      <Side x={67} />
      <File x={9} y={10} look="there" />
      <File x={9} y={20} look="there" />
      <Arrow from={34} to={62} y={18} />
      <File x={73} y={10} look="new" />
      <File x={73} y={20} look="new" />
      <File x={73} y={34} look="there" />
    </>
  ),
  mirror: (
    <>
      <Side x={3} />
      <Side x={67} />
      <File x={9} y={10} look="there" />
      <File x={9} y={20} look="there" />
      <Arrow from={34} to={62} y={18} />
      <File x={73} y={10} look="new" />
      <File x={73} y={20} look="new" />
      <File x={73} y={34} look="gone" />
    </>
  ),
  'two-way': (
    <>
      <Side x={3} />
      <Side x={67} />
      <File x={9} y={12} look="there" />
      <File x={9} y={30} look="new" />
      <Arrow from={34} to={62} y={15} />
      <Arrow from={62} to={34} y={33} />
      <File x={73} y={12} look="new" />
      <File x={73} y={30} look="there" />
    </>
  ),
  migrate: (
    <>
      <Side x={3} />
      <Side x={67} />
      <File x={9} y={10} look="gone" />
      <File x={9} y={20} look="gone" />
      <Arrow from={34} to={62} y={18} />
      <File x={73} y={10} look="new" />
      <File x={73} y={20} look="new" />
      <path d="M73 35l4 4 8-9" className="fill-none stroke-reed" strokeWidth="2" />
    </>
  ),
  consolidate: (
    <>
      <rect x="3" y="3" width="26" height="18" rx="3" className="fill-none stroke-soft" />
      <rect x="3" y="27" width="26" height="18" rx="3" className="fill-none stroke-soft" />
      <Side x={67} />
      <File x={9} y={9} look="there" />
      <File x={9} y={33} look="there" />
      <path d="M34 12L60 21M34 36L60 27M56 17l4 4-5 2M55 25l5 2-4 4" className="fill-none stroke-plumage" strokeWidth="1.5" />
      <File x={73} y={16} look="new" />
      <File x={73} y={26} look="new" />
    </>
  ),
}

const types = [
  { value: 'copy', title: 'Copy', help: 'Adds and updates files at the target; never deletes.' },
  { value: 'mirror', title: 'Mirror', help: 'Makes the target identical to the source.' },
  { value: 'two-way', title: 'Two-way', help: 'Keeps both sides identical.' },
  { value: 'migrate', title: 'Migrate', help: 'Copies in steps, up to a certificate of what was verified; clears the source only if asked.' },
  { value: 'consolidate', title: 'Consolidate', help: 'Copies several sources into one target; identical files are kept once if the sources are merged.' },
]

/** The type of a job: a card each, with a drawing of what happens to both sides. */
export function TypeCards({ value, onChange }: Props) {
  return (
    <fieldset>
      <legend className="text-small text-soft">Type</legend>
      <RadioGroup.Root value={value} onValueChange={onChange} aria-label="Type" className="mt-1 grid grid-cols-1 gap-2 sm:grid-cols-2 xl:grid-cols-3">
        {types.map((type) => (
          <RadioGroup.Item
            key={type.value}
            value={type.value}
            aria-label={type.title}
            aria-description={type.help}
            className="flex items-start gap-3 rounded-md border border-line p-2 text-left hover:border-plumage data-[state=checked]:border-plumage data-[state=checked]:bg-panel data-[state=checked]:shadow-[inset_0_0_0_1px_var(--plumage)]"
          >
            <svg viewBox="0 0 96 48" className="h-12 w-24 shrink-0" aria-hidden="true">
              {drawings[type.value]}
            </svg>
            <span>
              <span className="block font-semibold">{type.title}</span>
              <span className="block text-small text-soft">{type.help}</span>
            </span>
          </RadioGroup.Item>
        ))}
      </RadioGroup.Root>
    </fieldset>
  )
}

import { createContext, useContext, useState } from "react";

/** Who stands at the bench. Kept in this browser; every order and signature carries it. */
export interface Person {
  name: string;
  rename: (name: string) => void;
}

const key = "hylostat.person";

/** In a shop in which people are entered it is who signed in, and no other name will do. */
export function usePersonState(signedIn?: string): Person {
  const [name, setName] = useState(() => localStorage.getItem(key) ?? "");
  return {
    name: signedIn ?? name,
    rename: (next) => {
      localStorage.setItem(key, next);
      setName(next);
    },
  };
}

export const PersonContext = createContext<Person>({ name: "", rename: () => {} });
export const usePerson = () => useContext(PersonContext);
